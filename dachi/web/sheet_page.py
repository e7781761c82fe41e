"""The run sheet as its page shows it."""

from __future__ import annotations

import secrets
from typing import Any

from flask import abort, request

from dachi.core.assessing import runsheet
from dachi.core.assessing.permission import cautions, state_cautions
from dachi.core.catalogue.poses import Pose
from dachi.data import catalogue, cues_under, screening_questions
from dachi.drawing.stand import stand
from dachi.studio import records
from dachi.studio.records import Assessment, DayState
from dachi.studio.visits import intake
from dachi.studio.visits import sheets as visits
from dachi.studio.visits.allowed import allowed
from dachi.web.session import clock, own_practitioner, work


def sheet_view(visit: Assessment, **more: Any) -> dict[str, Any]:
    """What the sheet's page shows."""
    own = visits.all_trials(work(), visit)
    may = allowed(work(), visit.practitioner_id)
    who = own_practitioner(visit.practitioner_id)
    stations = visits.stations(work(), visit, own)
    last = own[-1] if own else None
    slot = visits.after(
        stations,
        last.slot if last else None,
    )
    default = slot.pose if slot else own[-1].pose if own else catalogue().poses[0].id
    pose = pose_of(request.values.get("pose") or default)
    station = next((s for s in stations if s.pose.id == pose.id), None)
    on_sheet = station is not None
    if station is None:
        rows = runsheet.lines_for(pose, "left", 3)
        own_rows = tuple(
            visits.Row(x, {}, "empty", may.refused(pose, x.mode, x.side)) for x in rows
        )
        station = visits.Station(pose, own_rows, 0.0, "", True)
    here = visits.free([station])
    chosen = slot if slot in here else here[0] if here else _beyond(station)
    state = records.state(work(), visit.id)
    lines = visits.lines_of(work(), visit, own)
    shown_side = chosen.side if chosen.side != "both" else "right"
    return {
        "visit": visit,
        "who": who,
        "stations": stations,
        "station": station,
        "on_sheet": on_sheet,
        "beside": catalogue().beside(pose.id),
        "pose": pose,
        "poses": catalogue().poses,
        "photographed": {t.pose for t in own},
        "minutes": runsheet.minutes(lines, catalogue()),
        "put_away": records.put_away(work(), visit.id),
        "unmarked": [t for t in own if not t.marked],
        "any_marked": any(t.marked for t in own),
        "headlines": records.headlines(work(), visit.id),
        "once_key": secrets.token_urlsafe(12),
        "next_shot": chosen,
        "usual": intake.usual_variant(pose, who),
        "say": " ".join([pose.say, *cues_under(pose.id, who.schools)]),
        "stand": stand(pose, shown_side),
        "shown_side": shown_side,
        "closed": intake.closed(visit),
        "refused": intake.refusal(work(), visit, who, chosen.mode, pose, chosen.side),
        "state": state,
        "opened": visits.opened_since(work(), visit),
        "cautions": _cautions(who.id, state),
        "modes_shut": {m: may.refused(pose, m) for m in pose.modes},
        "shut": may.shut_poses(visits.wanted(work(), who.id) | {x.pose for x in lines}),
        "no_mode": {p.id: why for why, ps in may.shut_poses().items() for p in ps},
        "waiting": len(records.tray(work(), visit.id)),
        "phone_live": records.phone_link(
            work(), visit.id, clock().local().isoformat(timespec="seconds")
        ),
        "felt_kinds": records.FELT_KINDS,
        "felt_now": records.felt_at(work(), visit.id),
        "problem": None,
    } | more


def _cautions(pid: int, state: DayState | None) -> list[str]:
    """What to mind on this day: how they are, and what was answered once."""
    screening = records.screening(work(), pid)
    answered = cautions(screening, screening_questions())
    today = state_cautions(state.pain, state.warm_up_min) if state else ()
    return [*today, *(f"{c[0].upper()}{c[1:]}." for c in answered)]


def _beyond(station: visits.Station) -> runsheet.Slot:
    """Where one more trial would go once every place of a station is taken."""
    rows = [r for r in station.rows if not r.refused] or station.rows
    row = min(rows, key=lambda r: len(r.cells))
    number = next((n for n in range(1, 10) if n not in row.cells), 9)
    return runsheet.Slot(station.pose.id, row.line.side, row.line.mode, number)


def pose_of(pose_id: str) -> Pose:
    """The pose of an id; 404 where there is none."""
    if pose_id not in catalogue():
        abort(404)
    return catalogue().pose(pose_id)
