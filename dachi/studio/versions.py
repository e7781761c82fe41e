"""Fingerprints of the rules that a derived thing comes of: code and data.

A stored reading, summary or week keeps the fingerprint it was made under, beside one of its whole
input. Code is taken as what is run: what the named modules import from the core, without comments,
docstrings or how it is laid out, so that no constant can change unnoticed and no word makes every
photograph be read again.
"""

from __future__ import annotations

import ast
import hashlib
from collections.abc import Iterable
from functools import cache, lru_cache
from pathlib import Path

ROOT = Path(__file__).parents[1]
CORE = "dachi.core"

_MEASURING = ("dachi.core.measuring.measure",)
_MEASURED = ("data/poses", "data/landmarks.toml", "data/skin.toml")
_JUDGING = ("dachi.studio.verdicts.summaries", "dachi.studio.verdicts.histories")
_JUDGED = ("data/poses", "data/scatter.toml")
_PRACTISING = (
    "dachi.core.practising.planner", "dachi.studio.practice.weeks", "dachi.studio.practice.person",
    "dachi.studio.verdicts.overview",
)  # fmt: skip


@lru_cache(maxsize=1)
def measuring() -> str:
    """What readings and checks are derived by."""
    return _digest(_MEASURING, _MEASURED)


@lru_cache(maxsize=1)
def judging() -> str:
    """What summaries are derived by, from the readings."""
    return _digest(_JUDGING, _JUDGED)


@lru_cache(maxsize=1)
def practising() -> str:
    """What a week is planned by, from what is known of the person."""
    return _digest(_PRACTISING, ("data",))


def _digest(modules: Iterable[str], data: Iterable[str]) -> str:
    found = hashlib.sha256()
    for name in sorted(run_by(modules)):
        found.update(name.encode() + b"\0" + _said(_path(name)))
    for one in data:
        path = ROOT / one
        files = sorted(p for s in ("toml", "csv") for p in path.rglob(f"*.{s}"))
        for file in files if path.is_dir() else [path]:
            found.update(str(file.relative_to(ROOT)).encode() + b"\0" + file.read_bytes())
    return found.hexdigest()[:16]


def run_by(modules: Iterable[str]) -> set[str]:
    """Some modules and every module of the core that they import, however far down."""
    found: set[str] = set()
    waiting = list(modules)
    while waiting:
        name = waiting.pop()
        if name in found:
            continue
        found.add(name)
        waiting += [x for x in _imported(name) if x.startswith(f"{CORE}.")]
    return found


def _path(name: str) -> Path:
    return ROOT.joinpath(*name.split(".")[1:]).with_suffix(".py")


@cache
def _parsed(path: Path) -> ast.Module:
    return ast.parse(path.read_bytes())


def _imported(name: str) -> Iterable[str]:
    for node in ast.walk(_parsed(_path(name))):
        if isinstance(node, ast.ImportFrom) and node.module and not node.level:
            for one in (node.module, *(f"{node.module}.{a.name}" for a in node.names)):
                if one.startswith("dachi.") and _path(one).exists():
                    yield one


def _said(path: Path) -> bytes:
    """A module as it is run."""
    tree = _parsed(path)
    for node in ast.walk(tree):
        body = getattr(node, "body", None)
        if not isinstance(body, list) or not body:
            continue
        first = body[0]
        told = isinstance(first, ast.Expr) and isinstance(first.value, ast.Constant)
        if told and isinstance(first.value.value, str):
            body[0] = ast.Pass()
    return ast.dump(tree).encode()
