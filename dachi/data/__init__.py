"""The catalogue's files: one pose a file, rules beside them, read once."""

from __future__ import annotations

import hashlib
import tomllib
from functools import lru_cache
from pathlib import Path

from dachi.core.catalogue import Catalogue, build_catalogue
from dachi.core.limiter import Rule, build_rules
from dachi.core.readiness import Question, build_questions

FOLDER = Path(__file__).parent


@lru_cache(maxsize=1)
def catalogue() -> Catalogue:
    """Return the catalogue that ships with the program."""
    return load(FOLDER / "poses")


def load(folder: Path) -> Catalogue:
    """Read every ``*.toml`` in a folder; the version is a digest of their text.

    Descriptions shared by marks of many poses are in ``landmarks.toml`` of this package.
    """
    shared = (FOLDER / "landmarks.toml").read_bytes()
    digest = hashlib.sha256(shared)
    entries = []
    for path in sorted(folder.glob("*.toml")):
        text = path.read_bytes()
        digest.update(text)
        entries.append(tomllib.loads(text.decode("utf-8")))
    landmarks = tomllib.loads(shared.decode("utf-8"))
    return build_catalogue(digest.hexdigest()[:12], entries, landmarks)


@lru_cache(maxsize=1)
def limiter_rules() -> tuple[Rule, ...]:
    """Return the rules that name what holds a pose back."""
    entries = tomllib.loads((FOLDER / "limiters.toml").read_text("utf-8"))["rules"]
    return build_rules(entries, catalogue())


@lru_cache(maxsize=1)
def screening_questions() -> tuple[Question, ...]:
    """Return the questions asked before an assessment."""
    text = (FOLDER / "screening.toml").read_text("utf-8")
    return build_questions(tomllib.loads(text)["questions"])
