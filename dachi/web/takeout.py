"""What is kept about a person, as plain files for them to take away."""

from __future__ import annotations

import json
import tempfile
import zipfile
from dataclasses import asdict
from typing import IO, Any

from dachi.data import catalogue
from dachi.interchange import readings
from dachi.store import assessments, days, digests, goals, markings, photos, practice, preparation
from dachi.store.assessments import Trial
from dachi.store.practitioners import Practitioner
from dachi.web import shown
from dachi.web.calendars import calendar_of
from dachi.web.series import compared_variant
from dachi.web.session import db

#: Larger bundles are put together on disk, bytes.
IN_MEMORY = 8_000_000


def bundle(coach: int, who: Practitioner) -> IO[bytes]:
    """A zip of record, practice, readings, visits, calendar, and photographs as consent allows.

    The coach's own notes are not in it.
    """
    consent = preparation.consent(db(), coach, who.id)
    screening = preparation.screening(db(), coach, who.id)
    texts: dict[str, Any] = {
        "record.json": {
            "call_name": who.call_name, "birth_year": who.birth_year, "height_cm": who.height_cm,
            "thigh_cm": who.thigh_cm, "shin_cm": who.shin_cm, "dominant_side": who.dominant_side,
            "email": who.email, "props": sorted(who.props), "schools": dict(who.schools),
            "consent": asdict(consent) if consent else None,
            "screening": asdict(screening) if screening else None,
            "goals": [
                {k: v for k, v in asdict(g).items() if k not in ("id", "practitioner_id")}
                for g in goals.of_practitioner(db(), coach, who.id)
            ],
        },
        "practice.json": [asdict(e) for e in practice.log(db(), coach, who.id, 5000)],
        "ranges.json": [
            {"pose": d.pose, "families": d.body["families"]}
            for d in digests.of_practitioner(db(), coach, who.id)
        ],
    }  # fmt: skip
    visits = []
    pictures: list[tuple[str, Trial]] = []
    for v in assessments.of_practitioner(db(), coach, who.id):
        state = days.state(db(), coach, v.id)
        own = assessments.trials(db(), coach, v.id)
        visits.append(
            {
                "taken_at": v.taken_at, "warmth": v.warmth,
                "state": asdict(state) if state else None, "photographs": len(own),
            }
        )  # fmt: skip
        pictures += [
            (f"photographs/{v.taken_at[:10]}-{t.pose}-{t.side}-{t.mode}-{t.number}.jpg", t)
            for t in own
        ]
    texts["visits.json"] = visits
    # The answer that sends it closes it.
    out: IO[bytes] = tempfile.SpooledTemporaryFile(IN_MEMORY)  # noqa: SIM115
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as into:
        for name, body in texts.items():
            into.writestr(name, json.dumps(body, indent=2, ensure_ascii=False))
        into.writestr("readings.csv", readings_csv(coach, who))
        into.writestr("calendar.ics", calendar_of(coach, who))
        for name, t in pictures if shown.to_themselves(coach, who.id) else ():
            photo = photos.get(db(), coach, t.photo_id)
            try:
                path = shown.outside(coach, photo, "preview") if photo is not None else None
                if path is not None:
                    into.write(path, name, zipfile.ZIP_STORED)
            except OSError:
                # One lost file keeps nobody from the rest.
                into.writestr(f"{name}.missing.txt", "The picture's file is missing.\n")
    out.seek(0)
    return out


def readings_csv(coach: int, who: Practitioner, pose_id: str | None = None) -> str:
    """Every charted reading of a person (of one pose), as CSV."""
    known = {p.id: p for p in catalogue().poses}
    units = {(p.id, m.id): m.unit for p in known.values() for m in p.measures}
    return readings.write(
        (
            who.call_name, r.taken_at, r.warmth, r.pose,
            compared_variant(known[r.pose], r.variant) if r.pose in known else "",
            r.side, r.mode, r.number, r.measure, r.value, r.sd, units.get((r.pose, r.measure), ""),
            r.method, r.status, "yes" if r.overruled else "no", r.prop_cm,
        )
        for r in markings.charted(db(), coach, who.id, pose_id)
    )  # fmt: skip
