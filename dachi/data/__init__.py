"""The catalogue's files: one pose a file, rules beside them, read once."""

from __future__ import annotations

import hashlib
import tomllib
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

from dachi.core.catalogue.cautions import Caution, build_cautions
from dachi.core.catalogue.demands import Demands, read_demands
from dachi.core.catalogue.drills import Drill, build_drills
from dachi.core.catalogue.gates import Gate, Ladder, build_gates, build_ladders, check_gates
from dachi.core.catalogue.limiter_rules import LimiterRule, build_rules
from dachi.core.catalogue.pose_entries import build_catalogue
from dachi.core.catalogue.poses import Catalogue
from dachi.core.catalogue.scatter_priors import ScatterPriors, build_priors
from dachi.core.catalogue.schools import Prop, School, build_props, build_schools
from dachi.core.catalogue.screening import (
    Flag,
    Group,
    Question,
    build_flags,
    build_groups,
    build_questions,
)
from dachi.core.measuring.habits import Habits, read_habits
from dachi.core.measuring.together import Together, read_together
from dachi.core.practising.person import Rules

FOLDER = Path(__file__).parent
FONTS = FOLDER / "fonts"


@lru_cache(maxsize=1)
def catalogue() -> Catalogue:
    """Return the catalogue that ships with the program."""
    return load(FOLDER / "poses")


def load(folder: Path) -> Catalogue:
    """Read every ``*.toml`` in a folder; the version is a digest of their text.

    Descriptions shared by marks of many poses are in ``landmarks.toml`` of this package, where
    marks lie from their joints in ``skin.toml``.
    """
    shared, skin = ((FOLDER / f"{name}.toml").read_bytes() for name in ("landmarks", "skin"))
    digest = hashlib.sha256(shared + skin)
    entries = []
    for path in sorted(folder.glob("*.toml")):
        text = path.read_bytes()
        digest.update(text)
        entries.append(tomllib.loads(text.decode("utf-8")))
    landmarks = tomllib.loads(shared.decode("utf-8"))
    spots = tomllib.loads(skin.decode("utf-8"))
    return build_catalogue(digest.hexdigest()[:12], entries, landmarks, spots)


@lru_cache(maxsize=1)
def habits() -> Habits:
    """How the landmark network misses marks, by pose and mark (``bench.bodies.network``)."""
    return read_habits((FOLDER / "habits.csv").read_text("utf-8"))


@lru_cache(maxsize=1)
def together() -> Mapping[str, Together]:
    """How misses of a pose's marks go with each other (``bench.bodies.network``)."""
    return read_together((FOLDER / "together.csv").read_text("utf-8"))


@lru_cache(maxsize=1)
def limiter_rules() -> tuple[LimiterRule, ...]:
    """Return the rules that name what holds a pose back."""
    entries = tomllib.loads((FOLDER / "limiters.toml").read_text("utf-8"))["rules"]
    return build_rules(entries, catalogue())


@lru_cache(maxsize=1)
def scatter_priors() -> ScatterPriors:
    """Return how far readings scatter before anybody was measured."""
    return build_priors(tomllib.loads((FOLDER / "scatter.toml").read_text("utf-8")), catalogue())


@lru_cache(maxsize=1)
def screening_questions() -> tuple[Question, ...]:
    """Return the questions asked before an assessment."""
    return build_questions(_screening()["questions"], [g.id for g in screening_groups()])


@lru_cache(maxsize=1)
def screening_groups() -> tuple[Group, ...]:
    """Return the groups of questions that one No answers."""
    return build_groups(_screening()["groups"])


@lru_cache(maxsize=1)
def red_flags() -> tuple[Flag, ...]:
    """Return the signs that stop every plan until somebody is seen by a clinician."""
    return build_flags(_screening()["flags"])


def _screening() -> dict[str, Any]:
    return tomllib.loads((FOLDER / "screening.toml").read_text("utf-8"))


@lru_cache(maxsize=1)
def props() -> tuple[Prop, ...]:
    """Return what a practitioner may own."""
    text = (FOLDER / "props.toml").read_text("utf-8")
    return build_props(tomllib.loads(text)["props"])


@lru_cache(maxsize=1)
def schools() -> tuple[School, ...]:
    """Return the questions on which schools differ."""
    text = (FOLDER / "schools.toml").read_text("utf-8")
    return build_schools(tomllib.loads(text)["schools"], catalogue(), [d.id for d in drills()])


def chosen_schools(own: Mapping[str, str]) -> dict[str, str]:
    """A practitioner's options with the defaults filled in."""
    return {s.id: own[s.id] if own.get(s.id) in s.options else s.default for s in schools()}


def variant_under(pose_id: str, own: Mapping[str, str]) -> dict[str, str]:
    """How a pose is photographed under a practitioner's schools, where they say so."""
    found: dict[str, str] = {}
    for s in schools():
        found |= s.variants.get(own.get(s.id, ""), {}).get(pose_id, {})
    return found


@lru_cache(maxsize=1)
def gates() -> dict[str, Gate]:
    """Return the gates of drills and ladders by id."""
    entries = tomllib.loads((FOLDER / "gates.toml").read_text("utf-8"))["gates"]
    return build_gates(entries, catalogue())


@lru_cache(maxsize=1)
def _demands(drill_ids: tuple[str, ...]) -> tuple[dict[str, Demands], dict[str, Demands]]:
    text = (FOLDER / "demands.csv").read_text("utf-8")
    return read_demands(text, drill_ids, [p.id for p in catalogue().poses])


def demands_of_pose(pose_id: str) -> Demands:
    """Return what a pose asks of the body."""
    return _demands(tuple(d.id for d in drills()))[1][pose_id]


@lru_cache(maxsize=1)
def drills() -> tuple[Drill, ...]:
    """Return the drill catalogue in the order of a session."""
    entries: list[dict[str, Any]] = []
    for path in sorted((FOLDER / "drills").glob("[0-9]*.toml")):
        entries += tomllib.loads(path.read_text("utf-8"))["drills"]
    bases = tomllib.loads((FOLDER / "drills" / "_bases.toml").read_text("utf-8"))
    asked, _ = _demands(tuple(str(e.get("id")) for e in entries))
    found = build_drills(entries, bases, catalogue(), [p.id for p in props()], gates(), asked)
    check_gates(gates().values(), [d.id for d in found])
    return found


@lru_cache(maxsize=1)
def cautions() -> tuple[Caution, ...]:
    """Return what cautions forbid."""
    return build_cautions(tomllib.loads((FOLDER / "cautions.toml").read_text("utf-8"))["cautions"])


@lru_cache(maxsize=1)
def ladders() -> tuple[Ladder, ...]:
    """Return the ways to the goal poses."""
    entries = tomllib.loads((FOLDER / "ladders.toml").read_text("utf-8"))["ladders"]
    return build_ladders(entries, catalogue(), gates(), {d.id for d in drills()})


def cues_under(thing_id: str, own: Mapping[str, str]) -> list[str]:
    """What a practitioner's schools add to what is said at a pose or a drill."""
    return [
        cue.say
        for school, option in chosen_schools(own).items()
        for s in schools()
        if s.id == school and (cue := s.cues.get(option)) and thing_id in cue.at
    ]


@lru_cache(maxsize=1)
def rules() -> Rules:
    """The catalogues that everybody's practice is planned by."""
    return Rules(
        catalogue=catalogue(), drills={d.id: d for d in drills()}, ladders=ladders(),
        gates=gates(), cautions=cautions(), props=props(), limiters=limiter_rules(),
        flags=red_flags(),
    )  # fmt: skip
