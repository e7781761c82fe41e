"""The report on paper: what a screen reader finds in it."""

import re
import unittest
import zlib

from dachi.data import FONTS
from dachi.drawing.paper import Course, Dot, Part, Report, Row, draw


def report(parts: int = 6, long: int = 1) -> Report:
    dots = tuple(Dot(14.0 * i, 60.0 + 3 * i, 4.0) for i in range(4))
    one = Part(
        "Butterfly", "heels from the groin", " cm",
        (
            Row("left", "passive", "32 cm ± 11 cm", "+5 cm ± 9 cm since 3 Nov 2026", "a first sign", "9"),
            Row("both", "active", "87° ± 2°", "", "", "9"),
        ),
        (Course("left", "passive", dots), Course("both", "active", dots)),
        "3 Nov 2026", "15 Dec 2026", ("A sentence that goes on and on. " * 4 * long,),
    )  # fmt: skip
    return Report(
        "Runa: 15 Dec 2026", ("Measured by Wenna.",), ("Something moved.",), (one,) * parts,
        ("Hip flexors.",), ("Lizard: 8 breaths.",) * 5, ("Next visit.",), ("By photographs.",), "foot",
    )  # fmt: skip


def pages(pdf: bytes) -> list[str]:
    """Every content stream that writes text, unpacked."""
    found = []
    for raw in re.findall(rb"stream\r?\n(.*?)\r?\nendstream", pdf, re.DOTALL):
        try:
            text = zlib.decompress(raw).decode("latin-1")
        except zlib.error:
            continue
        if " BDC" in text or "BMC" in text:
            found.append(text)
    return found


class Tagged(unittest.TestCase):
    def test_everything_is_marked_and_no_mark_runs_over_a_page(self) -> None:
        for parts, long in ((1, 1), (6, 1), (9, 9)):
            pdf = draw(report(parts, long), FONTS)
            own = pages(pdf)
            with self.subTest(parts=parts, long=long):
                self.assertGreaterEqual(len(own), 1 + (parts > 4))
                for text in own:
                    depth = 0
                    for token in re.findall(r"\bBDC\b|\bBMC\b|\bEMC\b", text):
                        depth += 1 if token != "EMC" else -1
                        self.assertIn(depth, (0, 1), "marks do not nest")
                    self.assertEqual(depth, 0)
                    # Nothing is written outside of a mark.
                    bare = re.sub(r"(?:BDC|BMC).*?EMC", "", text, flags=re.DOTALL)
                    self.assertNotRegex(bare, r"T[jJ]\b")
                kinds = re.findall(rb"/S /(\w+)", pdf)
                self.assertEqual(kinds.count(b"H1"), 1)
                self.assertEqual(kinds.count(b"H2"), parts + 4)
                self.assertEqual(kinds.count(b"Figure"), parts)
                for words in (b"/StructTreeRoot", b"/Marked true", b"/Lang"):
                    self.assertIn(words, pdf)


if __name__ == "__main__":
    unittest.main()
