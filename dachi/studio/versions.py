"""Fingerprints of everything a derived thing is derived from: rules, constants and data.

A stored reading, summary or week keeps the fingerprint it was made under. The text of the
program itself is part of it, so that no constant in code can change unnoticed.
"""

from __future__ import annotations

import hashlib
from functools import lru_cache
from pathlib import Path

ROOT = Path(__file__).parents[1]

_MEASURING = (
    "core/body", "core/catalogue/formula.py", "core/catalogue/poses.py",
    "core/catalogue/pose_entries.py", "core/measuring", "data/poses", "data/landmarks.toml",
    "data/skin.toml",
    "studio/bench/markings.py", "studio/bench/corner_cards.py",
)  # fmt: skip
_JUDGING = (
    "core/judging", "core/catalogue/scatter_priors.py", "data/scatter.toml",
    "studio/verdicts/histories.py", "studio/verdicts/summaries.py", "store/summaries.py",
)  # fmt: skip
_PRACTISING = (
    "core/catalogue",
    "core/practising",
    "data",
    "studio/verdicts/overview.py",
    "studio/practice/weeks.py",
)


@lru_cache(maxsize=1)
def measuring() -> str:
    """What readings and checks are derived from."""
    return _digest(_MEASURING)


@lru_cache(maxsize=1)
def judging() -> str:
    """What summaries are derived from, beside the readings."""
    return _digest((*_MEASURING, *_JUDGING))


@lru_cache(maxsize=1)
def practising() -> str:
    """What a planned week is derived from, beside the person."""
    return _digest((*_MEASURING, *_JUDGING, *_PRACTISING))


def _digest(names: tuple[str, ...]) -> str:
    found = hashlib.sha256()
    for name in names:
        path = ROOT / name
        files = sorted(p for s in ("py", "toml", "csv") for p in path.rglob(f"*.{s}"))
        for file in files if path.is_dir() else [path]:
            found.update(str(file.relative_to(ROOT)).encode() + b"\0" + file.read_bytes())
    return found.hexdigest()[:16]
