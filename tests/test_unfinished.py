"""What killed processes leave: swept, unless somebody is at it still."""

import fcntl
import os
import tempfile
import unittest
from pathlib import Path

from dachi import unfinished


class Sweeping(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.home = self.folder / unfinished.HOME
        self.home.mkdir()

    def test_a_note_that_was_never_finished_goes_unless_it_is_held(self) -> None:
        left, held = self.home / "a.new", self.home / "b.new"
        left.touch()
        handle = os.open(held, os.O_RDWR | os.O_CREAT)
        self.addCleanup(os.close, handle)
        fcntl.flock(handle, fcntl.LOCK_EX)
        unfinished.sweep(self.folder, ())
        self.assertEqual((left.exists(), held.exists()), (False, True))

    def test_while_something_is_written_a_sweep_takes_nothing(self) -> None:
        part = self.folder / "part"
        with unfinished.unfinished(self.folder, part):
            part.write_text("x")
            unfinished.sweep(self.folder, ())
            self.assertTrue(part.exists())
        self.assertFalse(part.exists())
        self.assertEqual(list(self.home.iterdir()), [])


if __name__ == "__main__":
    unittest.main()
