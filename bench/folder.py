"""A folder of thirty photographs, timed: ``python -m bench.folder [FOLDER]`` (var/pictures).

The folder is made by ``python -m bench.bodies.pictures FOLDER``. Thirty photographs with cards go
into the tray of a visit in the browser's way; once all were looked at they are put on the places
proposed, and looked at there. Meanwhile Today and the run sheet are asked for again and again.
"""

from __future__ import annotations

import sys
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import numpy as np
from playwright.sync_api import sync_playwright

from bench.visit import opened, pictures, place_of, studio, with_exif
from dachi.clock import Clock
from dachi.core.assessing.runsheet import SheetLine
from dachi.store import assessments, photos, run_sheets, unsorted_photos
from dachi.store.database import connect
from tests.browser.chromium import FLAGS, chromium

COUNT, PAUSE_S = 30, 0.25


def main(argv: list[str] | None = None) -> None:
    chosen = pictures(Path((argv or ["var/pictures"])[0]), COUNT)
    seen: Counter[tuple[str, str]] = Counter()
    wanted = {f"{n:02}.jpg": place_of(told, seen) for n, (_, told) in enumerate(chosen)}
    with studio(propose=True) as (base, work, aid), sync_playwright() as p:
        modes = {w.pose.id: w.mode for w in wanted.values()}
        lines = [SheetLine(pose, side, modes[pose], count) for (pose, side), count in seen.items()]
        run_sheets.save(work.db, work.coach, aid, lines)
        browser = p.chromium.launch(executable_path=chromium(), args=FLAGS)
        page = opened(browser.new_context(), base)
        page.goto(f"{base}/a/{aid}")
        token = page.locator('[name="csrf_token"]').first.input_value()
        began = time.perf_counter()
        for name, (file, told) in zip(wanted, chosen, strict=True):
            sent = page.request.post(f"{base}/a/{aid}/tray", multipart={
                "csrf_token": token,
                "photo": {"name": name, "mimeType": "image/jpeg",
                          "buffer": with_exif(file, told, False)},
            })  # fmt: skip
            assert sent.ok, sent.text()
        sent_at = time.perf_counter()
        waits: list[float] = []

        def until(done: Callable[[], bool]) -> None:
            """Ask for other pages until something is done, as a coach who goes on would."""
            while not done():
                for address in ("/", f"/a/{aid}"):
                    asked = time.perf_counter()
                    assert page.request.get(base + address).ok
                    waits.append(time.perf_counter() - asked)
                time.sleep(PAUSE_S)

        db = connect(work.folder, Clock())
        until(lambda: not unsorted_photos.unseen(db, work.coach))
        sorted_at = time.perf_counter()
        page.goto(f"{base}/a/{aid}/tray")
        page.get_by_role("button", name="Put them on the sheet").click()
        until(lambda: not photos.unseen(db, work.coach))
        done_at = time.perf_counter()
        right = sides = 0
        names = {t.photo_id: t for t in assessments.trials(db, work.coach, aid)}
        rest = {u.photo_id for u in unsorted_photos.of_assessment(db, work.coach, aid)}
        for number, photo_id in enumerate(sorted(names.keys() | rest)):
            if (trial := names.get(photo_id)) is not None:
                place = wanted[f"{number:02}.jpg"]
                right += trial.pose == place.pose.id
                sides += (trial.pose, trial.side) == (place.pose.id, place.side)
        left = len(rest)
        db.close()
        browser.close()
    print(
        f"{len(chosen)} photographs: sent in {sent_at - began:.0f} s, looked at for their places"
        f" after {sorted_at - began:.0f} s, on them and proposed after {done_at - began:.0f} s"
    )
    print(f"{right} on a place of their pose, {sides} of their side too, {left} left in the tray")
    print(f"other pages meanwhile: median {np.median(waits) * 1e3:.0f} ms, p95"
          f" {np.percentile(waits, 95) * 1e3:.0f} ms ({len(waits)})")  # fmt: skip


if __name__ == "__main__":
    main(sys.argv[1:])
