"""One rule at every door: what a pain closes is closed wherever a drill or a shot is put forward.

Every drill, place, kind and side, asked at each door for one person; what is closed is worked out
here from the table of demands alone.
"""

import unittest
from collections.abc import Mapping

from dachi.core.catalogue.demands import BODY, ENDS
from dachi.core.catalogue.hurts import CLOSES, kind_of
from dachi.core.practising.allowed import closed_sides
from dachi.core.practising.progression import ProposalKind
from dachi.core.words import PainKind, Place
from dachi.data import catalogue, cautions, demands_of_pose, drills
from dachi.interchange.persons import plan_json
from dachi.store import practice_log, practitioners, proposals
from dachi.store import weeks as stored
from dachi.store.practice_log import DrillDone, Felt, NewLogEntry, Pain
from dachi.store.weeks import Profile
from dachi.studio.practice import acts, player, weeks
from dachi.studio.practice.person import Practising
from dachi.studio.visits.allowed import allowed
from tests import slow
from tests.support import Studio, ago

BY_ID = {d.id: d for d in drills()}
SIDES = ("left", "right")
PROPS = ("mat", "wall", "block", "strap", "chair", "bolster", "cushion", "towel")
POINTED = sorted(set(player.POINTED) | {Place.LEFT_KNEE_INNER, Place.RIGHT_KNEE_BACK, Place.GROIN})


Asked = tuple[Mapping[str, int], Mapping[str, int], Mapping[str, int]]


def brought_here(place: Place, kind: PainKind) -> list[tuple[dict[str, int], bool, str]]:
    """What a fresh pain blocks from which level, whether passive ends too, and of which leg."""
    said = kind_of(kind) if kind is not PainKind.DIZZY else "dizzy"
    found = []
    for where in CLOSES[place] if said != "dizzy" else ("elsewhere",):
        harmful = said in ("sharp", "pinch", "tingling", "ache") or (
            said == "stretch" and where.startswith("knee")
        )
        trunk = where in ("low_back", "wrist", "shoulder", "neck", "head", "elsewhere")
        for c in cautions():
            if not (c.places or c.kinds) or (c.places and where not in c.places):
                continue
            if not ((said in c.kinds) if c.kinds else harmful):
                continue
            leg = "" if (c.places and trunk) or said == "dizzy" else place.side
            sooner = said == "sharp" and not c.kinds
            blocks = {
                n: max(1, level - 1) if sooner and n not in BODY and n[:4] != "con_" else int(level)
                for n, level in c.blocks.items()
            }
            found.append((blocks, c.no_passive_end, leg))
    return found


def shut_here(
    asked: Asked, alone: bool, end: bool, brought: list[tuple[dict[str, int], bool, str]]
) -> set[str]:
    """On which sides that closes what asks so much of own leg, other leg and body."""
    own, other, body = asked
    shut: set[str] = set()
    for blocks, no_ends, leg in brought:
        for side in SIDES:
            for name, bound in blocks.items():
                if name in body:
                    most = body[name]
                elif not alone or not leg:
                    most = max(own[name], other[name])
                else:
                    most = (own if leg == side else other)[name]
                if most >= bound:
                    shut.add(side)
            if no_ends and end and (not leg or not alone or leg == side):
                shut.add(side)
    return shut if alone or not shut else set(SIDES)


def closed_here(place: Place, kind: PainKind) -> dict[str, set[str]]:
    """Drill to the sides that a fresh pain closes, from the tables of cautions and demands."""
    brought = brought_here(place, kind)
    return {
        d.id: shut_here(
            (d.demands.own, d.demands.other, d.demands.body),
            d.sides == "each",
            d.passive_end,
            brought,
        )
        for d in BY_ID.values()
    }


def by_own_strength(asked: Mapping[str, int]) -> dict[str, int]:
    """What somebody's own strength brings to an end goes a step less far; so does a nerve."""
    return {
        n: v - 1 if (v >= 2 and n in (*ENDS, "ham_origin")) or (v and n == "nerve") else v
        for n, v in asked.items()
    }


class Doors(Studio):
    def setUp(self) -> None:
        super().setUp()
        practitioners.update(self.db, self.coach.id, self.pid, props=PROPS)
        stored.save_profile(self.db, self.coach.id, self.pid, Profile(level=3, minutes=30.0, weekdays=(0, 3)))  # fmt: skip

    @property
    def own(self) -> Practising:
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        return Practising(self.work, who)

    def hurt(self, place: Place, kind: PainKind, drill: str = "raise-up") -> int:
        entry = NewLogEntry(once_key=f"{place}{kind}", started_at=ago(0.2), seconds=300, felt=Felt.RIGHT, finished=True, done=(DrillDone(drill, 60.0),), pains=(Pain(drill, place, kind),))  # fmt: skip
        return practice_log.add(self.db, self.coach.id, self.pid, entry)

    def gone(self) -> None:
        """No pain of before is left."""
        for entry in practice_log.entries(self.db, self.coach.id, self.pid):
            practice_log.remove(self.db, self.coach.id, self.pid, entry.id)

    def asked(self, place: Place, kind: PainKind) -> int:
        """Ask every door that needs no plan; how many drills and sides were closed."""
        wanted, brought = closed_here(place, kind), brought_here(place, kind)
        self.gone()
        self.hurt(place, kind)
        own = self.own
        # The week, and what is offered easier or harder: one function.
        for d in BY_ID.values():
            self.assertEqual(set(closed_sides(d, own.person)), wanted[d.id], (d.id, place, kind))
        # What a coach searches for in another's place.
        for d, why in weeks.in_place_of(own, BY_ID["ankle-circle"], ""):
            self.assertTrue(why or wanted[d.id] != set(SIDES), (d.id, place, kind))
        # The session that is running.
        running = player.closes(list(BY_ID)).get(f"{place}|{kind}", {})
        if place in player.POINTED:
            self.assertEqual({n: set(s) for n, s in running.items()}, {n: s for n, s in wanted.items() if s})  # fmt: skip
        # The run sheet and the phone's list.
        may = allowed(self.work, self.pid)
        for pose in catalogue().poses:
            sides = SIDES if pose.sides == "each" else ("both",)
            for mode in pose.modes:
                shut = {s for s in sides if may.refused(pose, mode, s)}
                of_pose = demands_of_pose(pose.id)
                asked: Asked = (of_pose.own, of_pose.other, of_pose.body)
                if mode == "active":
                    own_leg, other_leg, body = (by_own_strength(x) for x in asked)
                    asked = (own_leg, other_leg, body)
                here = shut_here(asked, pose.sides == "each", mode == "passive", brought)
                if pose.sides == "both" and here:
                    here = {"both"}
                self.assertEqual(shut, here, (pose.id, mode, place, kind))
        return sum(len(s) for s in wanted.values())

    @slow("every place and kind at every door")
    def test_every_place_and_kind(self) -> None:
        closed = sum(self.asked(place, kind) for place in POINTED for kind in PainKind)
        self.assertGreater(closed, 3000)

    def test_some_places_and_kinds(self) -> None:
        for place, kind in (
            (Place.LEFT_GROIN, PainKind.SHARP), (Place.RIGHT_SIT_BONE, PainKind.DULL), (Place.LOW_BACK, PainKind.SHARP),
            (Place.RIGHT_KNEE_BACK, PainKind.STRETCH), (Place.LEFT_HIP_SIDE, PainKind.DULL), (Place.LEFT_ANKLE_FOOT, PainKind.NUMB),
        ):  # fmt: skip
            with self.subTest(place, kind=kind):
                self.assertGreater(self.asked(place, kind), 5)
        self.assertEqual(self.asked(Place.LEFT_GROIN, PainKind.CRAMP), 0)

    def planned_after(self, place: Place, kind: PainKind) -> None:
        wanted = closed_here(place, kind)
        self.gone()
        log_id = self.hurt(place, kind)
        own = self.own
        week = weeks.week_of(own)
        for session in week.sessions:
            less = player.session_on(own, session.weekday, "10")
            assert less is not None
            for item in (*session.items, *less.items):
                worked = {s.side for s in item.steps if s.worked}
                sides = set(SIDES) if worked == {None} else worked
                self.assertFalse(sides & wanted[item.drill], (item.drill, place, kind))
                self.assertNotIn(item.dose.extra, wanted[item.drill])
            data, _ = player.player(own, session, short=False)
            for item in data["items"]:
                for other in item["others"].values():
                    given = {s["side"] for s in other["steps"] if s["kind"] in ("reps", "hold")}
                    sides = set(SIDES) if given == {None} else given
                    self.assertFalse(sides & wanted[other["drill"]], (other["drill"], place))
        # What is proposed in the place of what hurt, and what the file command plans.
        acts.say_soreness(self.work, own.who, log_id, 1)
        for p in proposals.of_practitioner(self.db, self.coach.id, self.pid):
            if p.kind is ProposalKind.BACK and p.decided_at is None:
                self.assertNotEqual(wanted[str(p.about["easier"])], set(SIDES))
        at = CLOSES[place] if kind is not PainKind.DIZZY else ("elsewhere",)
        told = kind_of(kind) if kind is not PainKind.DIZZY else "dizzy"
        today = self.work.today().isoformat()
        found = plan_json(
            {"version": 2, "today": today, "birth_year": 1994, "level": 3, "days": {"mon": 30, "thu": 30},
             "props": list(PROPS), "pain": [{"place": p, "side": place.side, "kind": told, "on": today} for p in at]}
        )  # fmt: skip
        for i in (i for s in found["sessions"] for i in s["items"]):
            sides = {s for s in SIDES if i[f"{s}_s"]}
            self.assertFalse(sides & wanted[i["drill"]], (i["drill"], place, kind))

    @slow("a week after every pain")
    def test_a_week_after_every_pain(self) -> None:
        for place in POINTED:
            for kind in (PainKind.SHARP, PainKind.DULL, PainKind.NUMB, PainKind.DIZZY):
                self.planned_after(place, kind)

    def test_a_week_after_some(self) -> None:
        for place, kind in (
            (Place.LEFT_THIGH_BACK, PainKind.DULL), (Place.RIGHT_GROIN, PainKind.SHARP), (Place.LOW_BACK, PainKind.DIZZY),
        ):  # fmt: skip
            with self.subTest(place, kind=kind):
                self.planned_after(place, kind)


if __name__ == "__main__":
    unittest.main()
