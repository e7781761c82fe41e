"""Markings whose readings an older catalogue computed, with all that measuring them needs."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from dachi.store import assessments, markings, photos, positions, practitioners
from dachi.store.assessments import Trial
from dachi.store.markings import Marking
from dachi.store.photos import Photo
from dachi.store.positions import Position
from dachi.store.practitioners import Practitioner


@dataclass(frozen=True)
class Stored:
    """One marking with its surroundings."""

    coach_id: int
    who: Practitioner
    photo: Photo
    trial: Trial
    position: Position
    marking: Marking


def ids(db: sqlite3.Connection, version: str | None) -> list[int]:
    """Ids of markings with readings of another catalogue version; of all where None."""
    rows = db.execute(
        "SELECT DISTINCT marking_id AS id FROM reading WHERE ? IS NULL OR catalogue_version <> ?"
        " ORDER BY marking_id",
        (version, version),
    )
    return [r["id"] for r in rows]


def stored(db: sqlite3.Connection, wanted: Sequence[int]) -> Iterator[Stored]:
    """Yield markings with their surroundings; people and positions are read once."""
    people: dict[int, Practitioner | None] = {}
    places: dict[int, Position | None] = {}
    for marking_id in wanted:
        row = db.execute(
            "SELECT m.*, p.coach_id, p.id AS person FROM marking m"
            " JOIN trial t ON t.id = m.trial_id JOIN assessment a ON a.id = t.assessment_id"
            " JOIN practitioner p ON p.id = a.practitioner_id WHERE m.id = ?",
            (marking_id,),
        ).fetchone()
        coach = row["coach_id"]
        if row["person"] not in people:
            people[row["person"]] = practitioners.get(db, coach, row["person"])
        who = people[row["person"]]
        trial = assessments.trial(db, coach, row["trial_id"])
        photo = photos.get(db, coach, trial.photo_id) if trial else None
        place = (trial.position_id or 0) if trial else 0
        if place not in places:
            places[place] = positions.get(db, coach, place)
        position = places[place]
        if who and trial and photo and position:
            yield Stored(coach, who, photo, trial, position, markings.from_row(row))
