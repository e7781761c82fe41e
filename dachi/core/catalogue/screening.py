"""What is asked before an assessment: groups, questions behind them, and what stops a plan."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Any

from dachi.core.catalogue.problems import DataEntry, all_in, read_entry, without_twins

#: Stages of a torn muscle, in words.
STAGES = {1: "first days", 2: "walks freely", 3: "loads slowly"}


class Group(DataEntry, frozen=True):
    """Questions that one No answers."""

    id: str
    ask: str


class Question(DataEntry, frozen=True):
    """A screening question; a yes brings cautions.

    ``side``, ``parts`` (id to words), ``stage`` and ``weeks`` are asked behind a yes; ``clearing``:
    it waits for a clinician; ``again_days``: asked again after so long (0: once a year); ``ages``:
    of whom it is asked.
    """

    id: str
    ask: str
    caution: str
    group: str
    side: bool = False
    parts: dict[str, str] = {}
    stage: bool = False
    weeks: bool = False
    clearing: bool = False
    again_days: int = 0
    ages: tuple[int, int] | None = None


class Flag(DataEntry, frozen=True):
    """A sign that stops every plan until somebody is seen by a clinician.

    ``words`` say so, plainly and kindly; without ``ask`` it is read from what was logged.
    """

    id: str
    words: str
    ask: str = ""


def build_questions(
    entries: Iterable[Mapping[str, Any]], groups: Collection[str]
) -> tuple[Question, ...]:
    """Read the questions from parsed TOML; CatalogueError names what is wrong."""
    found = tuple(read_entry(Question, e, "question") for e in entries)
    without_twins((q.id for q in found), "question")
    all_in((q.group for q in found), groups, "question group")
    return found


def build_groups(entries: Iterable[Mapping[str, Any]]) -> tuple[Group, ...]:
    """Read the groups from parsed TOML; CatalogueError names what is wrong."""
    found = tuple(read_entry(Group, e, "group") for e in entries)
    without_twins((g.id for g in found), "group")
    return found


def build_flags(entries: Iterable[Mapping[str, Any]]) -> tuple[Flag, ...]:
    """Read what stops a plan from parsed TOML; CatalogueError names what is wrong."""
    found = tuple(read_entry(Flag, e, "flag") for e in entries)
    without_twins((f.id for f in found), "flag")
    return found
