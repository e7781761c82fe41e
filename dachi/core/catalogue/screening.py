"""Screening questions."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from dachi.core.catalogue.problems import DataEntry, read_entry, without_twins


class Question(DataEntry, frozen=True):
    """A screening question; a yes asks for clearance and brings its caution."""

    id: str
    ask: str
    caution: str


def build_questions(entries: Iterable[Mapping[str, Any]]) -> tuple[Question, ...]:
    """Read the questions from parsed TOML; CatalogueError names what is wrong."""
    found = tuple(read_entry(Question, e, "question") for e in entries)
    without_twins((q.id for q in found), "question")
    return found
