"""A week of practice, chosen by optimisation, with the reasons.

The choice is a mixed-integer linear programme solved by HiGHS (Huangfu and Hall 2018)
through ``scipy.optimize.milp``. Hard rules (``dachi.core.practising.programme``) are constraints;
what a person needs is a concave utility of weekly seconds for each direction and tissue:
full worth up to a target, a quarter of it up to twice the target, nothing beyond.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import sparse
from scipy.optimize import Bounds, LinearConstraint, milp

from dachi.core.catalogue.drills import ALWAYS, DIRECTIONS, PHASES, Drill
from dachi.core.practising.allowed import closed_sides, coming_back, only_side, refused
from dachi.core.practising.dose import Dose
from dachi.core.practising.order import arranged
from dachi.core.practising.programme import (
    EASY_END,
    FLOW_FROM_MIN,
    LEAST,
    WARM_SHARE,
    WARM_UP_MIN,
    Item,
    NoPlan,
    Person,
    Session,
    Week,
    Wishes,
    most,
)
from dachi.core.practising.worth import (
    BEYOND,
    SAME_COST,
    coverage,
    dose_for,
    free_days,
    liking,
    served,
    tight_side,
    wanted_s,
)

Array = NDArray[np.float64]

#: Phases in which a drill nobody has done yet is something new.
NEW = ("flow", "strength", "hold", "goal")
#: Less of a warm-up than this is not asked for, s.
LEAST_WARM_S = 60.0
#: A day is solved within this share of its best; sweeps over the week after the first.
GAP, NODES, SWEEPS = 0.008, 1000, 1


def plan(drills: Sequence[Drill], person: Person, wishes: Wishes | None = None) -> Week:
    """Plan a week. The same input gives the same plan.

    Raises NoPlan where even the shortest session breaks a rule, or none may be given.
    """
    for caution in person.cautions:
        if caution.no_session:
            raise NoPlan(f"{caution.name}: {caution.words}", by_caution=True)
    wishes = wishes or Wishes()
    problem = _Problem(drills, person, wishes)
    chosen, value, bound = problem.solve()
    return _written(problem, chosen, value, bound)


def _usual(drills: Sequence[Drill], person: Person, wishes: Wishes) -> list[tuple[float, float]]:
    """Seconds at the end of passive range and in all on each day of the person's usual week."""
    usual = plan(drills, replace(person, easy_week=False), wishes)
    return [
        (sum(i.dose.work_s for i in s.items if i.drill.passive_end), s.total_s)
        for s in sorted(usual.sessions, key=lambda s: s.weekday)
    ]


class _Problem:
    """The programme in matrices: x (drill, day), then bands of every need, then repeats."""

    def __init__(self, drills: Sequence[Drill], person: Person, wishes: Wishes) -> None:
        self.all = list(drills)
        self.person, self.wishes = person, wishes
        self.days = sorted(set(person.days))
        #: Seconds at the end of passive range, and in all, of a usual week: an easy one has fewer.
        self.usual = _usual(drills, person, wishes) if person.easy_week else None
        self.refused = {d.id: why for d in drills if (why := refused(d, person))}
        gone = {name for day, name in wishes.dropped if day is None}
        self.drills = [
            d for d in drills
            if d.id not in self.refused and d.id not in gone
            and not (d.strong and person.easy_week and not person.strength_first)
        ]  # fmt: skip
        self.needs = coverage(person)
        self.doses = [[dose_for(d, person, day) for day in self.days] for d in self.drills]
        #: What a drill takes of a session: what comes back is done at half the dose, and the other
        #: half is rest, not room for another drill.
        whole = [[dose_for(d, person, day, whole=True) for day in self.days] for d in self.drills]
        self.spent = [[how.total_s for how in row] for row in whole]
        self.nd, self.nt, self.nk = len(self.drills), len(self.days), len(self.needs)
        self.nx = self.nd * self.nt
        self.worked = sorted({k for d in self.drills if d.strong for k in d.strengthens})
        self.size = self.nx + 2 * self.nk + self.nd + len(self.worked) * self.nt
        self.rows: list[dict[int, float]] = []
        self.of_day: list[int | None] = []
        self.low: list[float] = []
        #: Where the rule of a day's warm-up is: what too little is left for is asked for less of.
        self.warming: dict[int, int] = {}
        self.high: list[float] = []

    def x(self, d: int, t: int) -> int:
        return d * self.nt + t

    def z(self, k: int, t: int) -> int:
        """Whether a day works a tissue; the next day then may not."""
        return self.nx + 2 * self.nk + self.nd + k * self.nt + t

    def rule(self, row: dict[int, float], low: float, high: float, day: int | None = None) -> None:
        """Keep ``low <= row . x <= high``; a rule of one day waits until that day is planned."""
        self.rows.append(row)
        self.of_day.append(day)
        self.low.append(low)
        self.high.append(high)

    def _rules(self) -> None:
        by_phase: dict[str, list[int]] = {p: [] for p in PHASES}
        for i, d in enumerate(self.drills):
            by_phase[d.phase].append(i)
        kept = {(day, name) for day, name in self.wishes.kept}
        for t, day in enumerate(self.days):
            minutes = self.person.minutes_on(day)
            longest = (
                60.0 * minutes if self.usual is None else min(60.0 * minutes, self.usual[t][1])
            )
            row = {self.x(i, t): s[t] for i, s in enumerate(self.spent)}
            self.rule(row, 0, longest, t)
            for phase in PHASES:
                own = by_phase[phase]
                limit = float(most(phase, minutes))
                if phase == "strength" and day in self.person.quiet_days | self.person.soft_days:
                    limit = 0.0
                least = float(LEAST.get(phase, 0))
                spared = self.person.quiet_days | self.person.soft_days | self.person.nothing_new
                sparing = day in spared
                if phase == "flow" and minutes >= FLOW_FROM_MIN and not sparing:
                    least = 1.0 if own else 0.0
                if own:
                    self.rule({self.x(i, t): 1.0 for i in own}, least, limit, t)
                elif least and phase != "counter":
                    # Where every counter movement is closed, what it would undo is closed as well.
                    raise NoPlan(f"no drill is left to {_VERBS[phase]}")
            # The goal pose only once warm.
            warm = [*by_phase["flow"], *by_phase["hold"], *by_phase["strength"]]
            for i in by_phase["goal"]:
                self.rule({self.x(i, t): 1.0} | {self.x(j, t): -1.0 for j in warm}, -np.inf, 0, t)
            ends = {
                self.x(i, t): self.doses[i][t].work_s
                for i, d in enumerate(self.drills)
                if d.passive_end and (day, d.id) not in kept
            }
            if ends and (self.usual is not None or day in self.person.quiet_days):
                share = EASY_END * self.usual[t][0] if self.usual is not None else 0.0
                self.rule(ends, 0, 0.0 if day in self.person.quiet_days else share, t)
            self._warmed(t, minutes, by_phase)
            self._spared(t, day, kept)
            self._chains(t)
            self._counters(t, by_phase)
        self._recovery()
        self._bands(kept)

    def _warmed(self, t: int, minutes: float, by_phase: Mapping[str, list[int]]) -> None:
        """A quarter of a short session warms up by moving, as far as there is what moves."""
        if not WARM_UP_MIN[0] <= minutes <= WARM_UP_MIN[1]:
            return
        moving = {self.x(i, t): self.spent[i][t] for p in ("mobilise", "flow") for i in by_phase[p]}
        if moving:
            self.warming[t] = len(self.rows)
            self.rule(moving, WARM_SHARE * 60.0 * minutes, np.inf, t)

    def _spared(self, t: int, day: int, kept: Collection[tuple[int, str]]) -> None:
        """What a body asks of a whole session: little on the back, strength before holding, and
        nothing new before a visit or an event.
        """
        person = self.person
        if person.back_s < np.inf:
            # Summed over the session: no order of it can then lie longer in one go.
            lying = [i for i, d in enumerate(self.drills) if d.demands.body["on_back"]]
            if lying:
                row = {self.x(i, t): self.doses[i][t].total_s for i in lying}
                self.rule(row, 0, person.back_s, t)
        if person.strength_first:
            row = {
                self.x(i, t): self.doses[i][t].work_s * (1.0 if d.strong else -1.0)
                for i, d in enumerate(self.drills)
                if d.phase in ("strength", "hold", "goal")
            }
            if row:
                self.rule(row, 0, np.inf, t)
        sparing = day in person.quiet_days | person.soft_days
        if person.known and (day in person.nothing_new or sparing):
            new = [
                i for i, d in enumerate(self.drills)
                if d.phase in NEW and d.id not in person.known and (day, d.id) not in kept
            ]  # fmt: skip
            if new:
                self.rule({self.x(i, t): 1.0 for i in new}, 0, 0, t)

    def _chains(self, t: int) -> None:
        """A drill and its easier form are not both in a session."""
        index = {d.id: i for i, d in enumerate(self.drills)}
        pairs = set()
        for i, d in enumerate(self.drills):
            for other in (d.easier, d.harder):
                if other in index:
                    pairs.add((min(i, index[other]), max(i, index[other])))
        for a, b in sorted(pairs):
            self.rule({self.x(a, t): 1.0, self.x(b, t): 1.0}, 0, 1)

    def _counters(self, t: int, by_phase: Mapping[str, list[int]]) -> None:
        """What a long hold or goal mainly turns out is turned in again."""
        for i in (*by_phase["hold"], *by_phase["goal"]):
            main = self.drills[i].directions[:1]
            undoing = [j for j in by_phase["counter"] if set(main) & set(self.drills[j].counters)]
            if undoing:
                self.rule({self.x(i, t): 1.0} | {self.x(j, t): -1.0 for j in undoing}, -np.inf, 0)

    def _recovery(self) -> None:
        """Strength for a tissue is never on two days in a row; the week comes round."""
        for k, tissue in enumerate(self.worked):
            own = [i for i, d in enumerate(self.drills) if d.strong and tissue in d.strengthens]
            for t, day in enumerate(self.days):
                u = (t + 1) % self.nt
                if u == t or (day + 1) % 7 != self.days[u]:
                    continue
                for i in own:
                    self.rule({self.x(i, t): 1.0, self.z(k, t): -1.0}, -np.inf, 0)
                    self.rule({self.x(i, u): 1.0, self.z(k, t): 1.0}, -np.inf, 1)

    def _bands(self, kept: Collection[tuple[int, str]]) -> None:
        for k, need in enumerate(self.needs):
            row = {self.nx + k: 1.0, self.nx + self.nk + k: 1.0}
            for i, d in enumerate(self.drills):
                if served(d, need):
                    for t in range(self.nt):
                        row[self.x(i, t)] = -self.doses[i][t].work_s / 60.0
            self.rule(row, -np.inf, 0)
        for i, d in enumerate(self.drills):
            over = self.nx + 2 * self.nk + i
            row = {self.x(i, t): 1.0 for t in range(self.nt)}
            self.rule(row | {over: -1.0}, -np.inf, free_days(d, self.nt))
        place = {d.id: i for i, d in enumerate(self.drills)}
        for day, name in kept:
            if name in place and day in self.days:
                t = self.days.index(day)
                self.rule({self.x(place[name], t): 1.0}, 1, 1, t)
        for on, name in self.wishes.dropped:
            if name in place and on in self.days:
                self.rule({self.x(place[name], self.days.index(on)): 1.0}, 0, 0)

    def solve(self) -> tuple[list[list[int]], float, float]:
        """Chosen drills (indices) of each day, the worth reached, and an upper bound of it.

        Day by day, each within ``GAP`` of its best, then every day once more with the others
        held: a week at once takes up to fifteen seconds and gains a percent. The bound is
        that of the linear relaxation of the whole week.
        """
        self._rules()
        cost, upper = self._worths()
        held: Array = np.zeros(self.nx)
        planned: set[int] = set()
        best, kept = np.inf, held
        for _ in range(1 + SWEEPS):
            value = np.inf
            for t in range(self.nt):
                planned.add(t)
                held, value = self._day(t, planned, held, cost, upper)
            if value >= best - 1e-6:
                break
            best, kept = value, held
            if self.nt == 1:
                break
        found = [[i for i in range(self.nd) if kept[self.x(i, t)] > 0.5] for t in range(self.nt)]
        return found, -best, self._bound(cost, upper)

    def _worths(self) -> tuple[Array, Array]:
        """Cost (less worth) and upper bound of every variable."""
        cost, upper = np.zeros(self.size), np.full(self.size, np.inf)
        upper[: self.nx] = 1.0
        upper[self.nx + 2 * self.nk + self.nd :] = 1.0
        place = {d.id: i for i, d in enumerate(self.all)}
        for i, d in enumerate(self.drills):
            worth = liking(d, self.person, place[d.id], len(self.all))
            cost[[self.x(i, t) for t in range(self.nt)]] = -worth
            cost[self.nx + 2 * self.nk + i] = SAME_COST
        for k, need in enumerate(self.needs):
            target = wanted_s(need, self.person) / 60.0
            upper[self.nx + k] = upper[self.nx + self.nk + k] = target
            cost[self.nx + k] = -need.weight
            cost[self.nx + self.nk + k] = -BEYOND * need.weight
        return cost, upper

    def _constraints(self, planned: Collection[int]) -> LinearConstraint:
        use = [r for r, day in enumerate(self.of_day) if day is None or day in planned]
        cols = [c for r in use for c in self.rows[r]]
        data = [v for r in use for v in self.rows[r].values()]
        starts = np.cumsum([0, *(len(self.rows[r]) for r in use)])
        matrix = sparse.csr_array((data, cols, starts), shape=(len(use), self.size))
        return LinearConstraint(
            matrix, np.array([self.low[r] for r in use]), np.array([self.high[r] for r in use])
        )

    def _day(
        self, t: int, planned: Collection[int], held: Array, cost: Array, upper: Array
    ) -> tuple[Array, float]:
        """The best day t with the others as they are."""
        low, high = np.zeros(self.size), upper.copy()
        low[: self.nx] = high[: self.nx] = held
        free = [self.x(i, t) for i in range(self.nd)]
        low[free], high[free] = 0.0, 1.0
        whole = np.zeros(self.size)
        whole[free] = 1
        options: dict[str, Any] = {"mip_rel_gap": GAP, "node_limit": NODES}
        answer = milp(
            cost, constraints=self._constraints(planned), integrality=whole,
            bounds=Bounds(low, high), options=options,
        )  # fmt: skip
        if answer.x is None and self.low[at := self.warming.get(t, 0)] > 0 and t in self.warming:
            # Half of it, and none, where cautions leave too little that moves.
            self.low[at] = 0.5 * self.low[at] if self.low[at] > LEAST_WARM_S else 0.0
            return self._day(t, planned, held, cost, upper)
        if answer.x is None:
            raise NoPlan(
                f"nothing fits into {self.person.minutes_on(self.days[t]):g} minutes with what is "
                "kept by hand: let a kept drill go, or give the sessions more time"
            )
        return np.round(np.asarray(answer.x[: self.nx])), float(answer.fun)

    def _bound(self, cost: Array, upper: Array) -> float:
        answer = milp(
            cost, constraints=self._constraints(range(self.nt)),
            bounds=Bounds(np.zeros(self.size), upper),
        )  # fmt: skip
        return float(-answer.fun)


_VERBS = {
    "settle": "settle with", "mobilise": "warm up with", "rest": "rest with",
}  # fmt: skip


def _written(problem: _Problem, chosen: list[list[int]], value: float, bound: float) -> Week:
    person = problem.person
    sessions = []
    used: set[str] = set()
    seconds: dict[str, float] = dict.fromkeys(DIRECTIONS, 0.0)
    for t, day in enumerate(problem.days):
        items = []
        place = {problem.drills[i].id: i for i in chosen[t]}
        own = [problem.drills[i] for i in chosen[t]]
        for d in arranged(own, person.school, person.prepares):
            how = problem.doses[place[d.id]][t]
            used.add(d.id)
            for direction in d.directions:
                seconds[direction] += how.work_s
            own_first = only_side(d, person) or tight_side(d, person) or person.starts
            first = own_first if d.sides == "each" else None
            kept = (day, d.id) in problem.wishes.kept
            items.append(Item(d, how, first, _reason(d, how, person, kept), kept))
        sessions.append(Session(day, tuple(items)))
    fell_out = dict(problem.refused)
    gone = {name for day, name in problem.wishes.dropped if day is None}
    for d in problem.all:
        if d.id in used or d.id in fell_out:
            continue
        if d.id in gone:
            fell_out[d.id] = "dropped by hand"
        elif d.strong and person.easy_week and not person.strength_first:
            fell_out[d.id] = "this is an easy week"
        else:
            fell_out[d.id] = _beaten(d, problem, used)
    return Week(tuple(sessions), fell_out, value, bound, seconds)


def _reason(drill: Drill, how: Dose, person: Person, kept: bool) -> str:
    """Why a drill is there: the need it serves best, or its place in every session."""
    own = [
        n for n in person.needs
        if served(drill, n) and drill.phase not in ("settle", "rest")
    ]  # fmt: skip
    extra = f"; one more round: {_tighter(drill, how.extra, person)}" if how.extra else ""
    if only := only_side(drill, person):
        (why,) = closed_sides(drill, person).values()
        closed = f"the other way is closed: {why.split(':')[0].lower()}"
        extra = f"; {drill.short_side(only)} only, {closed}"
    if coming_back(drill, person):
        extra += "; half the dose: it is coming back"
    if drill.id in person.opened:
        extra += f"; opened by the coach: {person.opened[drill.id]}"
    if kept:
        return f"Kept by hand{extra}."
    if drill.phase == "goal" and drill.goal in person.goals:
        return f"The goal itself, while warm{extra}."
    if own:
        tissues = (*drill.lengthens, *drill.strengthens, *drill.directions)
        best = max(own, key=lambda n: (n.weight, -tissues.index(n.name)))
        return f"{best.reason[0].upper()}{best.reason[1:]}{extra}."
    if drill.phase in ALWAYS:
        ways = _ways(drill)
        return {
            "settle": "Every session begins by arriving.",
            "mobilise": f"Warms {'the hips for' if ways else 'feet and ankles'}{ways}.",
            "counter": f"Undoes {' and '.join(c.replace('_', ' ') for c in drill.counters)}.",
            "rest": "Every session ends at rest.",
        }[drill.phase]
    return f"Keeps{_ways(drill)} in the week{extra}."


def _tighter(drill: Drill, side: str, person: Person) -> str:
    """Which hip gets the extra round, and where it is then."""
    direction = next(d for d in drill.directions if d in person.tight)
    hip = f"the {person.tight[direction]} hip is tighter"
    return f"{drill.short_side(side)}, {hip}" if drill.split else hip


def _ways(drill: Drill) -> str:
    ways = [d.replace("_", " ") for d in drill.directions[:2]]
    return f" {' and '.join(ways)}" if ways else ""


def _beaten(drill: Drill, problem: _Problem, used: Collection[str]) -> str:
    """What took the place of a drill that might have been there."""
    by_id = {d.id: d for d in problem.all}
    for other in (drill.easier, drill.harder):
        if other is not None and other in used:
            return f"“{by_id[other].name}” does its work in this week"
    for need in sorted(problem.person.needs, key=lambda n: -n.weight):
        if served(drill, need):
            return "other drills serve the same need better in the minutes there are"
    return "the minutes go to what is needed more"
