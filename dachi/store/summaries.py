"""What lists show of a practitioner's poses, kept beside the markings it was derived from."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import astuple, dataclass
from enum import StrEnum

import msgspec

from dachi.core.body.anatomy import other_side
from dachi.core.judging.scatter import Evidence
from dachi.core.judging.series import Verdict
from dachi.core.judging.stages import Stage, Standing
from dachi.store.database import Database
from dachi.store.rows import PERSON

#: The version of the stored bodies' types: another one is read as stale.
FORMAT = 5


@dataclass(frozen=True)
class Change:
    """A change between two sessions with its MDC95, in the measure's unit.

    ``real``: beyond it. The other three are settled over all of a person's lines.
    """

    change: float
    mdc: float
    verdict: Verdict
    days: float
    real: bool
    stage: Stage | None = None
    why: str = ""
    p: float = 1.0

    @property
    def confirmed(self) -> bool:
        """Whether it may be announced and decided by."""
        return self.stage is Stage.CONFIRMED


@dataclass(frozen=True)
class Lost:
    """Now against the best level of a line, reached on ``day`` (see ``judging.best``)."""

    best: float
    day: float
    change: float
    mdc: float
    p: float
    lost: bool
    confirmed: bool = False


@dataclass(frozen=True)
class LineSummary:
    """One side and mode of a measure: the newest session value and what became of it.

    ``half`` is half the 95 % interval of ``value``, ``within`` that of a difference from another
    value of the same visit; ``slope`` a week with its interval; ``plateau`` the sessions and days
    in which nothing moved, ``flat`` its days where that is worth a word. ``standing`` and
    ``stood`` are what speaks for its change at its last ``visit`` and at the one before.
    """

    side: str
    mode: str
    value: float
    before: float | None
    half: float
    count: int
    sessions: int
    taken_at: str | None
    trial: int
    first_trial: int
    first: Change | None
    last: Change | None
    slope: tuple[float, float, float] | None
    plateau: tuple[int, float] | None
    mdc: float
    within: float
    visit: int
    visit_before: int | None
    standing: Standing | None
    stood: Standing | None
    flat: float | None
    better: str
    #: Day and value of the newest visits, the first of all before them.
    course: tuple[tuple[float, float], ...] = ()
    lost: Lost | None = None
    lost_before: Lost | None = None


@dataclass(frozen=True)
class FamilySummary:
    """One charted measure of a pose, with its sentences."""

    family: str
    label: str
    unit: str
    better: str
    motion: str | None
    sentence: str
    asymmetry: str
    reserve: Mapping[str, str]
    lines: tuple[LineSummary, ...]
    leg: str = "own"

    def hip_of(self, side: str) -> str:
        """The hip that a line of a side tells of: in a split the hip behind is the other's."""
        return other_side(side) if self.leg == "other" and side != "both" else side


class NewsKind(StrEnum):
    """What kind of news the newest assessment brought."""

    GAIN = "gain"
    LOSS = "loss"
    PLATEAU = "plateau"


@dataclass(frozen=True)
class News:
    """Something an assessment brought that had not been there before; ``at`` is its day, ISO.

    Of one ``side`` and ``mode`` of a measure; ``pained`` where it hurt as well.
    """

    kind: NewsKind
    text: str
    pose: str
    family: str
    at: str
    side: str = ""
    mode: str = ""
    pained: bool = False

    @property
    def line(self) -> tuple[str, str, str, str]:
        """Whose news it is: pose, measure, side and mode."""
        return self.pose, self.family, self.side, self.mode


@dataclass(frozen=True)
class PoseSummary:
    """One pose of a practitioner: ``families`` for the overview, ``news`` for Today."""

    practitioner_id: int
    pose: str
    families: tuple[FamilySummary, ...]
    news: tuple[News, ...]
    retest_on: str | None

    @property
    def looked_on(self) -> str:
        """The day it was last looked at, ISO; empty where it never was."""
        return max(((x.taken_at or "")[:10] for f in self.families for x in f.lines), default="")


def save(
    db: Database,
    coach_id: int,
    found: PoseSummary,
    made_from: str,
    evidence: Mapping[tuple[str, str], Evidence],
) -> None:
    """Replace the summary of a pose; ``evidence`` of the scatter is by (family, mode).

    ``made_from`` names the rules it was derived by, and after a colon all that it was derived from.
    """
    own = (found.practitioner_id, coach_id)
    newest = max((n.at for n in found.news), default=None)
    db.execute(
        "INSERT INTO pose_summary (practitioner_id, pose, body, news, news_on, retest_on,"
        f" looked_on, updated_at, made_from) SELECT id, ?, ?, ?, ?, ?, ?, ?, ? FROM {PERSON}"
        " WHERE true ON CONFLICT (practitioner_id, pose)"
        " DO UPDATE SET body = excluded.body, news = excluded.news, news_on = excluded.news_on,"
        " retest_on = excluded.retest_on, looked_on = excluded.looked_on,"
        " updated_at = excluded.updated_at, made_from = excluded.made_from",
        (
            found.pose,
            msgspec.json.encode(found.families).decode(),
            msgspec.json.encode(found.news).decode(),
            newest,
            found.retest_on,
            found.looked_on,
            db.now(),
            _stamped(made_from),
            *own,
        ),
    )
    _forget_evidence(db, coach_id, found.practitioner_id, found.pose)
    db.executemany(
        "INSERT INTO scatter_evidence (practitioner_id, pose, family, mode, within_squares,"
        " within_df, between_squares, between_df, share, cross_products, cross_df)"
        f" SELECT id, ?, ?, ?, ?, ?, ?, ?, ?, ?, ? FROM {PERSON}",
        [(found.pose, *key, *astuple(e), *own) for key, e in evidence.items()],
    )


def settle(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    pose: str,
    families: Sequence[FamilySummary],
    news: Sequence[News],
) -> None:
    """Put the stages and the news of a pose in place, settled over all of a person's lines."""
    db.execute(
        "UPDATE pose_summary SET body = ?, news = ?, news_on = ? WHERE pose = ?"
        f" AND practitioner_id IN {PERSON}",
        (
            msgspec.json.encode(families).decode(),
            msgspec.json.encode(news).decode(),
            max((n.at for n in news), default=None),
            pose,
            practitioner_id,
            coach_id,
        ),
    )


def _stamped(made_from: str) -> str:
    return f"{FORMAT}:{made_from}"


def _forget_evidence(db: Database, coach_id: int, practitioner_id: int, pose: str) -> None:
    db.execute(
        f"DELETE FROM scatter_evidence WHERE pose = ? AND practitioner_id IN {PERSON}",
        (pose, practitioner_id, coach_id),
    )


def drop(db: Database, coach_id: int, practitioner_id: int, pose: str) -> None:
    """Remove the summary of a pose that has no markings left."""
    db.execute(
        f"DELETE FROM pose_summary WHERE pose = ? AND practitioner_id IN {PERSON}",
        (pose, practitioner_id, coach_id),
    )
    _forget_evidence(db, coach_id, practitioner_id, pose)


def mark_stale(db: Database, coach_id: int, poses: Collection[str]) -> None:
    """Have the summaries of some poses of every practitioner derived again before their next use.

    Errors are pooled over a coach's people: one person's readings bear on the others' verdicts.
    """
    db.executemany(
        "UPDATE pose_summary SET made_from = '' WHERE pose = ? AND practitioner_id IN"
        " (SELECT id FROM practitioner WHERE coach_id = ?)",
        [(pose, coach_id) for pose in sorted(poses)],
    )


def stale(db: Database, coach_id: int, version: str) -> list[tuple[int, str]]:
    """Return (practitioner, pose) of summaries that other rules made, or marked as stale: of
    those who were here last first.
    """
    start = f"{_stamped(version)}:"
    rows = db.execute(
        "SELECT d.practitioner_id AS person, d.pose FROM pose_summary d"
        " JOIN practitioner p ON p.id = d.practitioner_id"
        " WHERE p.coach_id = ? AND substr(d.made_from, 1, ?) <> ?"
        " ORDER BY (SELECT max(a.taken_at) FROM assessment a WHERE a.practitioner_id = p.id) DESC,"
        " 1, 2",
        (coach_id, len(start), start),
    )
    return [(r["person"], r["pose"]) for r in rows]


def count_stale(db: Database, coach_id: int, version: str) -> int:
    """Return how many there are (see ``stale``)."""
    start = f"{_stamped(version)}:"
    row = db.execute(
        "SELECT count(*) AS n FROM pose_summary d JOIN practitioner p ON p.id = d.practitioner_id"
        " WHERE p.coach_id = ? AND substr(d.made_from, 1, ?) <> ?",
        (coach_id, len(start), start),
    ).fetchone()
    return int(row["n"])


def state(db: Database, coach_id: int) -> str:
    """Return what changes with any summary of a coach's people; empty where there is none."""
    row = db.execute(
        "SELECT count(*) AS n, coalesce(max(d.updated_at), '') AS at FROM pose_summary d"
        " JOIN practitioner p ON p.id = d.practitioner_id WHERE p.coach_id = ?",
        (coach_id,),
    ).fetchone()
    return f"{row['n']} {row['at']}" if row["n"] else ""


def stale_of(db: Database, coach_id: int, practitioner_id: int, version: str) -> list[str]:
    """Return the poses of one practitioner whose summaries are stale."""
    start = f"{_stamped(version)}:"
    rows = db.execute(
        f"SELECT pose FROM pose_summary WHERE practitioner_id IN {PERSON}"
        " AND substr(made_from, 1, ?) <> ? ORDER BY pose",
        (practitioner_id, coach_id, len(start), start),
    )
    return [r["pose"] for r in rows]


def stamps(db: Database, coach_id: int, practitioner_id: int) -> dict[str, str]:
    """Return what the summary of each pose of a practitioner was made from."""
    rows = db.execute(
        f"SELECT pose, made_from FROM pose_summary WHERE practitioner_id IN {PERSON}",
        (practitioner_id, coach_id),
    )
    start = f"{FORMAT}:"
    return {r["pose"]: r["made_from"].removeprefix(start) for r in rows}


def of_practitioner(db: Database, coach_id: int, practitioner_id: int) -> list[PoseSummary]:
    """Return the summaries of a practitioner's poses as they are stored, stale or not."""
    rows = db.execute(
        "SELECT d.* FROM pose_summary d JOIN practitioner p ON p.id = d.practitioner_id"
        " WHERE p.coach_id = ? AND p.id = ?",
        (coach_id, practitioner_id),
    )
    return [
        PoseSummary(
            r["practitioner_id"],
            r["pose"],
            msgspec.json.decode(r["body"], type=tuple[FamilySummary, ...]),
            read_news(r["news"]),
            r["retest_on"],
        )
        for r in rows
    ]


def read_news(text: str) -> tuple[News, ...]:
    """News as they are stored."""
    return msgspec.json.decode(text, type=tuple[News, ...])


def stamp(db: Database, coach_id: int, practitioner_id: int, pose: str) -> str | None:
    """When the summary of a pose was last derived: it changes with every marking and trial."""
    row = db.execute(
        f"SELECT updated_at FROM pose_summary WHERE pose = ? AND practitioner_id IN {PERSON}",
        (pose, practitioner_id, coach_id),
    ).fetchone()
    return row["updated_at"] if row else None


def poses(db: Database, coach_id: int, practitioner_id: int) -> set[str]:
    """Return the poses a practitioner has readings of."""
    rows = db.execute(
        f"SELECT pose FROM pose_summary WHERE practitioner_id IN {PERSON}",
        (practitioner_id, coach_id),
    )
    return {r["pose"] for r in rows}


def others_evidence(
    db: Database, coach_id: int, practitioner_id: int | None, pose: str, family: str
) -> dict[str, list[Evidence]]:
    """What trials of the coach's people but one (None: all) say of the scatter, by mode."""
    cursor = db.cursor()
    # Some for each of hundreds of people: plain tuples in the order of the fields.
    cursor.row_factory = None
    rows = cursor.execute(
        "SELECT e.mode, e.within_squares, e.within_df, e.between_squares, e.between_df, e.share,"
        " e.cross_products, e.cross_df"
        " FROM scatter_evidence e JOIN practitioner p ON p.id = e.practitioner_id"
        " WHERE p.coach_id = ? AND e.practitioner_id IS NOT ? AND e.pose = ? AND e.family = ?"
        " ORDER BY e.practitioner_id",
        (coach_id, practitioner_id, pose, family),
    )
    found: dict[str, list[Evidence]] = {}
    for mode, *told in rows:
        found.setdefault(mode, []).append(Evidence(*told))
    return found
