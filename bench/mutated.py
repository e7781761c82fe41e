"""Ten thousand broken lines through measure, judge and plan: each must be answered."""

from __future__ import annotations

import json
import random
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from dachi.data import catalogue, scatter_priors
from dachi.interchange.histories import judge_line
from dachi.interchange.persons import plan_line
from dachi.interchange.scenes import measure_line
from tests.interchange.test_histories import person
from tests.interchange.test_scenes import example

LINES = 10_000
DESCRIBED = Path(__file__).parents[1] / "docs" / "people" / "described.jsonl"
VALUES: tuple[Any, ...] = (
    None, "", "x", -1, 0, 1e308, -1e308, 10**400, float("nan"), float("inf"), [], {}, [[]], True,
    "\ud83d", "9" * 5000, "2026-02-30", "<script>", "\x00", {"a": {"a": {"a": 1}}},
)  # fmt: skip


def main() -> None:
    """Print how each command answered, and what broke it."""
    rng = random.Random(16)
    commands: dict[str, Callable[[bytes], dict[str, Any]]] = {
        "measure": lambda line: measure_line(line, catalogue()),
        "judge": lambda line: judge_line(line, catalogue(), scatter_priors()),
        "plan": plan_line,
    }  # fmt: skip
    for name, answer in commands.items():
        good = lines_to_break(name)
        seen: Counter[str] = Counter()
        broke: list[str] = []
        began = time.perf_counter()
        for _ in range(LINES // len(commands)):
            line = mutated(rng.choice(good), rng)
            try:
                found = answer(line)
                json.dumps(found)
                seen["an error, said" if "error" in found else "a result"] += 1
            except Exception as error:
                broke.append(f"{type(error).__name__}: {error} at {line[:200]!r}")
        took = time.perf_counter() - began
        said = ", ".join(f"{n} {what}" for what, n in sorted(seen.items()))
        print(
            f"{name:8} {sum(seen.values())} answered ({said}), {len(broke)} broke it, {took:.0f} s"
        )
        for words in broke[:5]:
            print("  ", words)


def mutated(line: bytes, rng: random.Random) -> bytes:
    """A line with something wrong: in its bytes, or in one of its values."""
    if rng.random() < 0.3:
        data = bytearray(line)
        for _ in range(rng.randint(1, 6)):
            at = rng.randrange(len(data))
            how = rng.random()
            if how < 0.4:
                data[at] = rng.randrange(256)
            elif how < 0.7:
                del data[at : at + rng.randint(1, 30)]
            else:
                data[at:at] = bytes(rng.randrange(256) for _ in range(rng.randint(1, 8)))
            if not data:
                break
        return bytes(data)
    found = json.loads(line)
    for _ in range(rng.randint(1, 3)):
        _spoil(found, rng)
    return json.dumps(found).encode("utf-8", "surrogatepass")


def _spoil(data: Any, rng: random.Random) -> None:
    """Change one value, somewhere."""
    while isinstance(data, (dict, list)) and data:
        keys = list(data) if isinstance(data, dict) else list(range(len(data)))
        key = rng.choice(keys)
        if isinstance(data[key], (dict, list)) and data[key] and rng.random() < 0.75:
            data = data[key]
            continue
        how = rng.random()
        if how < 0.2:
            del data[key]
        elif how < 0.35 and isinstance(data, dict):
            data[f"{key}x"] = data.pop(key)
        else:
            data[key] = rng.choice(VALUES)
        return


def lines_to_break(name: str) -> list[bytes]:
    """Good lines of a command: a scene, histories of two people, the people read through."""
    if name == "measure":
        found = [example()]
    elif name == "judge":
        rng = np.random.default_rng(3)
        found = [{"id": str(n), "trials": person(rng, rate=n, visits=6)} for n in range(2)]
    else:
        found = [json.loads(x) for x in DESCRIBED.read_text("utf-8").splitlines()]
    return [json.dumps(x).encode() for x in found]
