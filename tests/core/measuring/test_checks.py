"""Compensations against their limits, and what is said where marks cannot show one."""

from __future__ import annotations

import unittest
from dataclasses import replace

from dachi.core.measuring.checks import judge
from dachi.data import catalogue


class Limits(unittest.TestCase):
    def test_cases(self) -> None:
        """A butterfly's pelvis may tip by 3 degrees; its size is freed of what error adds."""
        level = next(c for c in catalogue().pose("butterfly").checks if c.id == "pelvis_level")
        signed = next(c for c in catalogue().pose("supine-leg-raise").checks if c.id == "knee_bend")
        self.assertEqual((level.limit, signed.limit), (3, 10))
        cases = (
            # check, value, sd, status, a part of what is said, what is not said
            (level, 1.0, 0.5, "ok", "level", "no better"),
            (level, 0.5, 2.0, "ok", "level (0°)", "no better"),
            (level, 0.5, 3.0, "ok", "no better than ± 6°: look as well", "ruled out"),
            (level, 4.5, 3.0, "watch", "tipped 3°", "Take it again"),
            (signed, 3.0, 2.0, "ok", "straight", "no better"),
            (signed, 3.0, 10.0, "ok", "no better than ± 20°", "ruled out"),
            (signed, 9.0, 2.0, "watch", "Close to the limit of 10°", "no better"),
            (signed, 12.0, 1.0, "retake", "Take it again", "no better"),
            (signed, 12.0, 9.0, "watch", "bent 12°", "Take it again"),
        )
        for check, value, sd, status, said, unsaid in cases:
            with self.subTest(check.id, value=value, sd=sd):
                found = judge(check, value, sd)
                self.assertEqual(found.status, status)
                self.assertIn(said, found.message)
                self.assertNotIn(unsaid, found.message)

    def test_a_watched_check_sends_nothing_back(self) -> None:
        check = next(c for c in catalogue().pose("half-split").checks if c.id == "rounding")
        for value in (21.0, 45.0, 90.0):
            self.assertEqual(judge(check, value, 1.0).status, "watch")
            self.assertEqual(judge(replace(check, severity="retake"), value, 1.0).status, "retake")
