"""``make bench``: what is measured rather than promised. Names pick parts of it."""

from __future__ import annotations

import importlib
import sys

PARTS = ("speed", "accuracy", "judgement", "stickers", "figure_match", "practice")
#: Not run unless asked for: the body model of tools/need-bodies, its rendered pictures, a browser
#: for some minutes.
ASKED = ("bodies", "cards", "proposals", "recognised", "visit", "folder", "outline", "day", "pages",
         "mutated", "load", "clinic", "harm")  # fmt: skip


def main(wanted: list[str]) -> int:
    for part in PARTS + ASKED:
        if part in wanted or (not wanted and part in PARTS):
            print(f"\n== {part} ==", flush=True)
            module = "bench.bodies.run" if part == "bodies" else f"bench.{part}"
            importlib.import_module(module).main()
    return 0


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
