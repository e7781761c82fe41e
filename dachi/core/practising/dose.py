"""How much of a drill: for a level, a time and a side, in seconds, breaths or repetitions."""

from __future__ import annotations

import math
from dataclasses import dataclass

from dachi.core.catalogue.demands import Level
from dachi.core.catalogue.drills import ALWAYS, Drill

#: Getting into a drill, and changing sides, s; some positions take longer to turn round in.
ENTER_S, CHANGE_S = 20.0, 6.0
CHANGE_BY_POSITION = {"kneeling": 8.0, "side-lying": 10.0, "all-fours": 4.0}
#: The tighter side gets this share more of a hold.
EXTRA_SHARE = 1 / 3
#: From this many minutes down a session is short: what every session has is halved.
SHORT_MIN = 12
LEAST_HOLD_S, LEAST_REPS, LEAST_BREATHS = 20, 4, 3
#: A usual breath, in and out, s.
BREATH_S = 8.0
#: A yielding hold from this long on is done in two rounds: easy, then a little further.
ROUNDS_FROM_S = 40.0
#: Minutes-long sits and squats: after so long one may come out, for so long.
OUT_EVERY_S, OUT_S = 60.0, 10.0
#: No single hold takes more of a session than this.
MOST_OF_SESSION = 1 / 3
#: Stiff and older bodies: yielding holds are so much longer.
GENTLE_LONGER = 1.25


@dataclass(frozen=True)
class Dose:
    """What is done on each side: ``reps`` of ``rep_s`` seconds, or a hold of ``hold_s``.

    ``rounds`` divide a hold: the first easy, the next a little further, ``ease_s`` of coming
    up between them; ``outs`` are come-outs of ``out_s`` within a minutes-long hold.
    ``change_s`` is the time to change sides. ``extra`` is the side that gets one more round, of
    ``extra_reps`` or ``extra_s``. ``gentle``: the second round goes no further.
    """

    reps: int
    rep_s: float
    hold_s: float
    sides: int
    extra: str | None = None
    extra_reps: int = 0
    extra_s: float = 0.0
    change_s: float = CHANGE_S
    rounds: int = 1
    ease_s: float = 0.0
    outs: int = 0
    out_s: float = 0.0
    gentle: bool = False

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
        """Work with getting in, easing, coming out and changing sides, s."""
        changes = self.sides - 1 + (1 if self.extra else 0)
        between = (self.rounds - 1) * self.ease_s + self.outs * self.out_s
        return self.work_s + ENTER_S + self.change_s * changes + self.sides * between

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
    gentle: bool = False,
    longer: float = 1.0,
    breath_s: float = BREATH_S,
    only: str | None = None,
    share: float = 1.0,
    squat_s: float = math.inf,
    own_hold_s: float | None = None,
) -> Dose:
    """The dose of a drill.

    ``minutes`` is the length of the session: in short ones what no session goes without is
    halved (never dropped). ``tight`` is the tighter side, which gets one more round: a
    third of a hold, or a third of the repetitions. ``easy`` takes the level below, but not of
    what is yielded to; ``gentle`` (a stiff or older body) asks less effort and gives more
    time. ``longer`` stretches the hold or the count by a factor. ``breath_s`` is the
    person's own breath, which paces drills that go by the breath. ``only``: done on that side
    alone; ``share`` of the usual count or time (what comes back: half); ``squat_s``: no deep squat
    is longer; ``own_hold_s``: how long the person holds what is held.
    """
    change = CHANGE_BY_POSITION.get(drill.position, CHANGE_S)
    short = minutes <= SHORT_MIN
    half = 0.5 if short and drill.phase in ALWAYS else 1.0
    sides = 2 if drill.sides == "each" and only is None else 1
    extra = tight if sides == 2 and share >= 1 and drill.phase in ("strength", "hold") else None
    if drill.reps:
        step = 0 if short else max(0, min(level, 3) - 1 - (1 if easy or gentle else 0))
        pace = drill.breaths * breath_s if drill.breaths else drill.rep_s
        reps = max(LEAST_REPS if half < 1 else 1, round(drill.reps[step] * half * longer))
        if share < 1:
            reps = max(1, round(reps * share))
        if drill.both_ways:
            reps += reps % 2
        more = max(1, round(reps * EXTRA_SHARE)) if extra else 0
        return Dose(reps, pace, 0.0, sides, extra, more, change_s=change)
    usual = _hold(drill, level, minutes, easy=easy, gentle=gentle)
    if own_hold_s is not None and drill.phase == "hold" and minutes > SHORT_MIN:
        usual = own_hold_s
    hold = usual * half * longer
    ceiling = min(drill.most_s or math.inf, 60.0 * minutes * MOST_OF_SESSION / sides)
    least = 10 if drill.sitting else LEAST_HOLD_S
    if is_squat(drill):
        ceiling = min(ceiling, squat_s)
    hold = max(least, _fives(min(hold, ceiling)))
    if share < 1:
        hold = max(10.0, _fives(hold * share))
    once_more = _fives(hold * EXTRA_SHARE) if extra else 0.0
    rounds = 2 if _in_rounds(drill) and hold >= ROUNDS_FROM_S else 1
    outs = math.ceil(hold / OUT_EVERY_S) - 1 if drill.most_s else 0
    return Dose(
        0, 0.0, hold, sides, extra, 0, once_more, change, rounds,
        breath_s if rounds > 1 else 0.0, outs, OUT_S if outs else 0.0, gentle,
    )  # fmt: skip


def _hold(drill: Drill, level: int, minutes: float, *, easy: bool, gentle: bool) -> float:
    """Seconds of a hold by level. What is yielded to is not shorter for going gently."""
    yielding = drill.mode == "passive" and drill.phase == "hold"
    carried = drill.position in ("lying", "side-lying", "seated")
    if minutes <= SHORT_MIN and drill.phase != "hold":
        return drill.seconds[0]
    # A short session keeps fewer holds at their full time, not all at their shortest.
    if yielding and gentle and carried:
        return GENTLE_LONGER * drill.seconds[-1]
    if yielding and level == 1 and carried:
        # The floor carries it: time does the work, and it is no harder for being longer.
        return drill.seconds[1]
    less = gentle if yielding else easy or gentle
    return drill.seconds[max(0, min(level, 3) - 1 - less)]


def is_squat(drill: Drill) -> bool:
    """Whether both knees carry the body at the end of their bend."""
    return drill.position == "standing" and drill.demands.most("knee_end") is Level.LOADED


def _in_rounds(drill: Drill) -> bool:
    return drill.phase in ("hold", "goal") and drill.mode == "passive" and not drill.most_s


def _fives(seconds: float) -> float:
    return 5.0 * round(seconds / 5.0)
