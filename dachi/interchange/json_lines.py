"""JSON Lines in and out, each line checked against its published schema."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any, BinaryIO

import fastjsonschema
from jsonschema import Draft7Validator
from jsonschema.exceptions import best_match

FOLDER = Path(__file__).parent
#: Formats whose schemas are published.
FORMATS = tuple(sorted(p.name.removesuffix(".schema.json") for p in FOLDER.glob("*.schema.json")))


@lru_cache(maxsize=8)
def schema(name: str) -> dict[str, Any]:
    """Return the published schema of a format."""
    return dict(json.loads((FOLDER / f"{name}.schema.json").read_text("utf-8")))


@lru_cache(maxsize=8)
def _quick(name: str) -> Callable[[Any], Any]:
    """A validator compiled to code, thirty times faster than one that explains itself."""
    compiled: Callable[[Any], Any] = fastjsonschema.compile(schema(name), use_default=False)
    return compiled


def complaint(name: str, data: Any) -> str | None:
    """Say what about data is against a schema, None where nothing is."""
    try:
        _quick(name)(data)
    except fastjsonschema.JsonSchemaValueException as error:
        best = best_match(Draft7Validator(schema(name)).iter_errors(data))
        return _say(best.absolute_path, best.message) if best else str(error)
    return None


def _say(path: Iterable[Any], message: str) -> str:
    where = ".".join(str(p) for p in path)
    text = message if len(message) <= 160 else f"{message[:150]}…"
    return f"{where}: {text}" if where else text


def id_of(data: Any) -> str | int | None:
    """The id a line gives itself, None where it gives none that could be given back."""
    found = data.get("id") if isinstance(data, dict) else None
    return found if isinstance(found, str | int) and not isinstance(found, bool) else None


def parsed(line: bytes, most: int, usual: str) -> tuple[Any, dict[str, Any] | None]:
    """A line's data, and the answer where it is none; ``usual`` says what size it should have."""
    if len(line) > most:
        return None, {"id": None, "error": f"the line is longer than {most // 1024} kB: {usual}"}
    try:
        return json.loads(line), None
    except (ValueError, RecursionError) as error:
        return None, {"id": None, "error": f"the line is not JSON ({error})"}


def lines_of(source: BinaryIO, most: int) -> Iterator[bytes]:
    """Lines that hold anything, none of them read past the limit into memory."""
    while line := source.readline(most + 2):
        if len(line) > most and not line.endswith(b"\n"):
            while (rest := source.readline(most)) and not rest.endswith(b"\n"):
                pass
        if line.strip():
            yield line
