"""What is kept about a person, as plain files for them to take away."""

from __future__ import annotations

import json
import tempfile
import zipfile
from dataclasses import asdict
from typing import IO, Any

from dachi.data import catalogue
from dachi.interchange import readings
from dachi.store import (
    assessments,
    day_states,
    goals,
    markings,
    photos,
    practice_log,
    preparation,
    safety,
)
from dachi.store.assessments import Trial
from dachi.store.practitioners import Practitioner
from dachi.studio.practice.calendars import calendar_of
from dachi.studio.record import picture_privacy
from dachi.studio.verdicts import summaries
from dachi.studio.verdicts.histories import compared_variant
from dachi.studio.work import Work

#: Larger bundles are put together on disk, bytes.
IN_MEMORY = 8_000_000
#: Sessions of a log that are taken along: more than ten years of daily practice.
MOST_ENTRIES = 5000


def _texts(work: Work, who: Practitioner) -> dict[str, Any]:
    """Record, practice and ranges by the name of their file."""
    consent = preparation.consent(work.db, work.coach, who.id)
    screening = preparation.screening(work.db, work.coach, who.id)
    minded = safety.known(work.db, work.coach, who.id)
    return {
        "record.json": {
            "call_name": who.call_name, "birth_year": who.birth_year, "height_cm": who.height_cm,
            "thigh_cm": who.thigh_cm, "shin_cm": who.shin_cm, "dominant_side": who.dominant_side,
            "email": who.email, "props": sorted(who.props), "schools": dict(who.schools),
            "consent": asdict(consent) if consent else None,
            "screening": asdict(screening) if screening else None,
            "pain_answers": [asdict(a) for a in minded.answers],
            "event": asdict(minded.event) if minded.event else None,
            "goals": [
                {k: v for k, v in asdict(g).items() if k not in ("id", "practitioner_id")}
                for g in goals.of_practitioner(work.db, work.coach, who.id)
            ],
        },
        "practice.json": [
            asdict(e) for e in practice_log.entries(work.db, work.coach, who.id, MOST_ENTRIES)
        ],
        "ranges.json": [
            {"pose": d.pose, "families": [asdict(f) for f in d.families]}
            for d in summaries.of_practitioner(work, who.id)
        ],
    }  # fmt: skip


def bundle(work: Work, who: Practitioner) -> IO[bytes]:
    """A zip of record, practice, readings, visits, calendar, and photographs as consent allows.

    The coach's own notes are not in it.
    """
    texts = _texts(work, who)
    visits = []
    pictures: list[tuple[str, Trial]] = []
    for v in assessments.of_practitioner(work.db, work.coach, who.id):
        state = day_states.of_assessment(work.db, work.coach, v.id)
        own = assessments.trials(work.db, work.coach, v.id)
        visits.append(
            {
                "taken_at": v.taken_at, "warmth": v.warmth,
                "state": asdict(state) if state else None, "photographs": len(own),
            }
        )  # fmt: skip
        # Two visits of one day are two.
        at = v.taken_at[:16].replace(":", "")
        pictures += [
            (f"photographs/{at}-{t.pose}-{t.side}-{t.mode}-{t.number}.jpg", t)
            for t in own
            if t.read_from is None
        ]
    texts["visits.json"] = visits
    # The answer that sends it closes it.
    out: IO[bytes] = tempfile.SpooledTemporaryFile(IN_MEMORY)  # noqa: SIM115
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as into:
        for name, body in texts.items():
            into.writestr(name, json.dumps(body, indent=2, ensure_ascii=False))
        into.writestr("readings.csv", readings_csv(work, who))
        into.writestr("calendar.ics", calendar_of(work, who))
        for name, t in pictures if picture_privacy.to_themselves(work, who.id) else ():
            photo = photos.get(work.db, work.coach, t.photo_id)
            try:
                path = (
                    picture_privacy.outside(work, photo, "preview") if photo is not None else None
                )
                if path is not None:
                    into.write(path, name, zipfile.ZIP_STORED)
            except OSError:
                # One lost file keeps nobody from the rest.
                into.writestr(f"{name}.missing.txt", "The picture's file is missing.\n")
    out.seek(0)
    return out


def readings_csv(work: Work, who: Practitioner, pose_id: str | None = None) -> str:
    """Every charted reading of a person (of one pose), as CSV."""
    known = {p.id: p for p in catalogue().poses}
    units = {(p.id, m.id): m.unit for p in known.values() for m in p.measures}
    return readings.write(
        (
            who.call_name, r.taken_at, r.warmth, r.pose,
            compared_variant(known[r.pose], r.variant) if r.pose in known else "",
            r.side, r.mode, r.number, r.measure, r.value, r.sd, units.get((r.pose, r.measure), ""),
            r.method, r.status, "yes" if r.overruled else "no", r.prop_cm, r.marker,
        )
        for r in markings.charted(work.db, work.coach, who.id, pose_id)
    )  # fmt: skip
