"""``make bench``: what is measured rather than promised. Names pick parts of it."""

from __future__ import annotations

import importlib
import sys

PARTS = ("speed", "accuracy", "judgement", "stickers", "figure_match", "practice")


def main(wanted: list[str]) -> int:
    for part in PARTS:
        if not wanted or part in wanted:
            print(f"\n== {part} ==", flush=True)
            importlib.import_module(f"bench.{part}").main()
    return 0


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
