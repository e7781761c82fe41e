"""Answers are packed on the wire, but for those whose address a stranger may have written."""

import zlib

from tests.support import Pages


class Packing(Pages):
    def test_what_is_packed(self) -> None:
        self.sign_in()
        # What browsers say over plain HTTP.
        asked = {"Accept-Encoding": "gzip, deflate"}
        for path, packed in (
            ("/drills", True), ("/static/dachi.css", True), ("/static/dachi.css?v=1", True),
            ("/drills?q=split", False), ("/static/mark.svg", False), ("/sign-in?next=/", False),
        ):  # fmt: skip
            with self.subTest(path):
                plain, sent = self.client.get(path), self.client.get(path, headers=asked)
                self.assertEqual("Content-Encoding" in sent.headers, packed)
                self.assertNotIn("Content-Encoding", plain.headers)
                if packed:
                    self.assertLess(len(sent.data), len(plain.data) / 2)
                if packed and path.startswith("/static"):
                    self.assertEqual(zlib.decompress(sent.data), plain.data)
