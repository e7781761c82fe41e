"""A command: everything in it happens, or nothing does, and what hangs on it is made again."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from dachi.studio.renew import READ_FROM, renew
from dachi.studio.work import Work


@contextmanager
def acting(work: Work, *people: int) -> Iterator[None]:
    """Change records within a savepoint; ``people`` are those whose records these are.

    Whatever is raised inside takes everything back. The outermost command ends with ``renew`` for
    everybody concerned in it, and what cannot be renewed takes it back as well.
    """
    db = work.db
    outermost, db.acting = not db.acting, True
    if outermost:
        db.touched.clear()
    try:
        with db.savepoint():
            for pid in people:
                db.concerned[work.coach, pid] = work
            yield
            if outermost:
                # Ten years of photographs are a second's work to compare with what they were read
                # from: not where nothing was written that any reading is made from.
                read = bool(db.touched & READ_FROM)
                for (_, pid), whose in list(db.concerned.items()):
                    renew(whose, pid, readings=read)
    finally:
        if outermost:
            db.acting = False
            db.concerned.clear()
