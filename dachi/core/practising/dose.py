"""How much of a drill: for a level, a time and a side, in seconds, breaths or repetitions."""

from __future__ import annotations

from dataclasses import dataclass

from dachi.core.catalogue.drills import ALWAYS, Drill

#: Getting into a drill, and changing sides, s; some positions take longer to turn round in.
ENTER_S, CHANGE_S = 20.0, 6.0
CHANGE_BY_POSITION = {"kneeling": 8.0, "side-lying": 10.0, "all-fours": 4.0}
#: The tighter side gets this share more of a hold.
EXTRA_SHARE = 1 / 3
#: From this many minutes down a session is short: what every session has is halved.
SHORT_MIN = 12
LEAST_HOLD_S, LEAST_REPS, LEAST_BREATHS = 20, 4, 3


@dataclass(frozen=True)
class Dose:
    """What is done on each side: ``reps`` of ``rep_s`` seconds, or a hold of ``hold_s``.

    ``change_s`` is the time to change sides. ``extra`` is the side that gets one more round, of
    ``extra_reps`` or ``extra_s``.
    """

    reps: int
    rep_s: float
    hold_s: float
    sides: int
    extra: str | None = None
    extra_reps: int = 0
    extra_s: float = 0.0
    change_s: float = CHANGE_S

    @property
    def side_s(self) -> float:
        """Seconds of work on one side."""
        return self.reps * self.rep_s + self.hold_s

    @property
    def work_s(self) -> float:
        """Seconds of work on all sides, the extra round included."""
        return self.sides * self.side_s + self.extra_reps * self.rep_s + self.extra_s

    @property
    def total_s(self) -> float:
        """Work with getting in and changing sides, s."""
        changes = self.sides - 1 + (1 if self.extra else 0)
        return self.work_s + ENTER_S + self.change_s * changes

    def breaths(self, breath_s: float) -> int:
        """The hold in whole breaths of a person's own pace."""
        return breaths_of(self.hold_s, breath_s)


def breaths_of(hold_s: float, breath_s: float) -> int:
    """A hold in whole breaths, at least three: what is told is what is counted."""
    return max(LEAST_BREATHS, round(hold_s / breath_s))


def dose(
    drill: Drill,
    level: int,
    minutes: float,
    *,
    tight: str | None = None,
    easy: bool = False,
    longer: float = 1.0,
) -> Dose:
    """The dose of a drill.

    ``minutes`` is the length of the session: in short ones what no session goes without is
    halved (never dropped). ``tight`` is the tighter side, which gets one more round: a
    third of a hold, or a third of the repetitions. ``easy`` takes the level below,
    ``longer`` stretches the hold or the count by a factor.
    """
    change = CHANGE_BY_POSITION.get(drill.position, CHANGE_S)
    step = max(0, min(level, 3) - 1 - (1 if easy else 0))
    if minutes <= SHORT_MIN:
        step = 0
    half = 0.5 if minutes <= SHORT_MIN and drill.phase in ALWAYS else 1.0
    sides = 2 if drill.sides == "each" else 1
    extra = tight if sides == 2 and drill.phase in ("strength", "hold") else None
    if drill.reps:
        reps = max(LEAST_REPS if half < 1 else 1, round(drill.reps[step] * half * longer))
        if drill.both_ways:
            reps += reps % 2
        more = max(1, round(reps * EXTRA_SHARE)) if extra else 0
        return Dose(reps, drill.rep_s, 0.0, sides, extra, more, change_s=change)
    least = 10 if drill.sitting else LEAST_HOLD_S
    hold = max(least, _fives(drill.seconds[step] * half * longer))
    once_more = _fives(hold * EXTRA_SHARE) if extra else 0.0
    return Dose(0, 0.0, hold, sides, extra, 0, once_more, change)


def _fives(seconds: float) -> float:
    return 5.0 * round(seconds / 5.0)
