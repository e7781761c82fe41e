"""Everything a person may send instead of a photograph."""

import io
import struct
import tempfile
import unittest
import zlib
from datetime import datetime
from pathlib import Path

import numpy as np
from PIL import Image
from PIL.PngImagePlugin import PngInfo

from dachi.core.measuring.figure_match import Region
from dachi.files import write_once
from dachi.photos import faces
from dachi.photos.ingest import PhotoError, path_of, take_in, whole
from dachi.simulation.camera import exif
from tests.support import plain_picture, rendered


def png_header_only(width: int, height: int) -> bytes:
    """A PNG that claims a size and holds almost nothing: a decompression bomb."""

    def chunk(kind: bytes, body: bytes) -> bytes:
        return (
            struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))
        )

    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0" * 99))


class Refused(unittest.TestCase):
    def test_sentences_and_nothing_left_behind(self) -> None:
        whole = plain_picture(800, 600)
        cases = {
            "empty": b"",
            "not a picture": b"%PDF-1.4 surely not",
            "damaged or cut short": whole[: len(whole) // 2],
            "60 MB": b"\xff\xd8" + b"\0" * 60_000_000,
            "too many pixels": png_header_only(30000, 30000),
            "million pixels are taken": png_header_only(12000, 9000),
            "too small": plain_picture(100, 80),
            "GIF pictures are not taken": plain_picture(640, 480, "GIF", "P"),
        }
        for words, data in cases.items():
            with self.subTest(words), tempfile.TemporaryDirectory() as name:
                with self.assertRaises(PhotoError) as caught:
                    take_in(data, Path(name))
                self.assertIn(words, str(caught.exception))
                self.assertEqual([p for p in Path(name).rglob("*") if p.is_file()], [])


class Taken(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def stored(self, sha: str) -> Image.Image:
        with Image.open(path_of(self.folder, sha, "photo")) as picture:
            picture.load()
            return picture

    def test_every_format_ends_as_an_upright_jpeg(self) -> None:
        for kind, mode in (
            ("JPEG", "RGB"), ("JPEG", "CMYK"), ("JPEG", "L"), ("PNG", "RGBA"), ("PNG", "P"),
            ("WEBP", "RGB"), ("HEIF", "RGB"),
        ):  # fmt: skip
            with self.subTest(kind=kind, mode=mode):
                taken = take_in(plain_picture(640, 480, kind, mode), self.folder)
                picture = self.stored(taken.sha256)
                self.assertEqual((picture.format, picture.mode), ("JPEG", "RGB"))
                self.assertEqual((taken.width, taken.height), (640, 480))
                # The ramp survives: dark at the top, light at the bottom.
                grey = np.asarray(picture.convert("L"), dtype=float)
                self.assertLess(grey[:40].mean() + 120, grey[-40:].mean())

    def test_a_jpeg_with_more_pictures_inside(self) -> None:
        """As phones write that embed depth or a gain map: the first picture is the photograph."""
        out = io.BytesIO()
        first, second = (Image.open(io.BytesIO(plain_picture(640, 480))) for _ in range(2))
        first.save(out, "MPO", save_all=True, append_images=[second.resize((320, 320))])
        self.assertEqual(Image.open(io.BytesIO(out.getvalue())).format, "MPO")
        taken = take_in(out.getvalue(), self.folder)
        self.assertEqual((taken.width, taken.height), (640, 480))
        self.assertEqual(getattr(self.stored(taken.sha256), "n_frames", 1), 1)

    def test_sixteen_bits_of_grey_are_not_white(self) -> None:
        ramp = np.linspace(0, 65535, 640 * 480).astype(np.uint16).reshape(480, 640)
        out = io.BytesIO()
        Image.fromarray(ramp).save(out, "PNG")
        grey = np.asarray(self.stored(take_in(out.getvalue(), self.folder).sha256).convert("L"))
        self.assertLess(grey[:20].mean(), 10)
        self.assertAlmostEqual(float(grey[235:245].mean()), 127, delta=4)

    def test_what_is_written_in_a_picture_stays_behind(self) -> None:
        """Comments, text chunks and XMP hold names and places."""
        words = b"Quay 4, Runa"
        png = PngInfo()
        png.add_text("Description", words.decode())
        for data in (
            plain_picture(640, 480, comment=words),
            plain_picture(640, 480, "PNG", pnginfo=png),
            plain_picture(640, 480, "WEBP", xmp=words),
        ):
            self.assertIn(words, data)
            take_in(data, self.folder)
            for path in self.folder.rglob("*.jpg"):
                self.assertNotIn(words, path.read_bytes(), path)
            region = Region(300, 200, 40)
            for path in self.folder.glob("photos/*/*.jpg"):
                if "." not in path.stem:
                    hidden = faces.hidden(self.folder, path.stem, "preview", region)
                    self.assertNotIn(words, hidden.read_bytes())

    def test_what_was_swapped_or_cut_short_heals_when_it_is_sent_again(self) -> None:
        data = plain_picture(640, 480)
        sha = take_in(data, self.folder).sha256
        path = path_of(self.folder, sha, "photo")
        good = path.read_bytes()
        for bad in (b"", good[:100], plain_picture(700, 500)):
            path.write_bytes(bad)
            self.assertFalse(whole(self.folder, sha))
            self.assertEqual(take_in(data, self.folder).sha256, sha)
            self.assertEqual(path.read_bytes(), good)

    def test_orientation_time_and_focal_length(self) -> None:
        at = datetime(2026, 3, 4, 5, 6, 7)
        ramp = Image.fromarray(np.linspace(0, 255, 640 * 480).astype(np.uint8).reshape(480, 640))
        for orientation, size, dark in ((1, (640, 480), "top"), (3, (640, 480), "bottom"),
                                        (6, (480, 640), "right"), (8, (480, 640), "left")):  # fmt: skip
            out = io.BytesIO()
            ramp.convert("RGB").save(out, "JPEG", exif=exif(35, at, orientation))
            taken = take_in(out.getvalue(), self.folder)
            with self.subTest(orientation=orientation):
                self.assertEqual((taken.width, taken.height), size)
                self.assertEqual((taken.focal_35mm, taken.taken_at), (35.0, at))
                grey = np.asarray(self.stored(taken.sha256).convert("L"), dtype=float)
                means = {"top": grey[:40], "bottom": grey[-40:], "left": grey[:, :40],
                         "right": grey[:, -40:]}  # fmt: skip
                self.assertEqual(min(means, key=lambda k: means[k].mean()), dark)

    def test_no_exif_is_fine(self) -> None:
        taken = take_in(plain_picture(), self.folder)
        self.assertIsNone(taken.focal_35mm)
        self.assertIsNone(taken.taken_at)

    def test_place_and_device_are_dropped(self) -> None:
        data = exif(26, datetime(2026, 1, 1))
        data[0x010F] = "Maker"
        data.get_ifd(0x8825)[2] = (54.0, 30.0, 0.0)
        out = io.BytesIO()
        Image.new("RGB", (640, 480)).save(out, "JPEG", exif=data)
        self.assertIn(b"Maker", out.getvalue())
        taken = take_in(out.getvalue(), self.folder)
        for kind in ("photo", "preview", "thumb"):
            self.assertNotIn(b"Exif", path_of(self.folder, taken.sha256, kind).read_bytes())

    def test_focal_length_from_the_sensor(self) -> None:
        data = exif(26, datetime(2026, 1, 1))
        inner = data.get_ifd(0x8769)
        del inner[0xA405]
        # 4.3 mm behind a sensor 640 px wide at 640/6 px per mm: six times as wide is 36 mm.
        inner[0x920A], inner[0xA20E], inner[0xA210] = 4.3, 640 / 6.0, 4
        out = io.BytesIO()
        Image.new("RGB", (640, 480)).save(out, "JPEG", exif=data)
        self.assertAlmostEqual(take_in(out.getvalue(), self.folder).focal_35mm, 25.8, places=2)

    def test_twice_is_one_file(self) -> None:
        data, _ = rendered()
        first, second = take_in(data, self.folder), take_in(data, self.folder)
        self.assertEqual(first, second)
        self.assertEqual(len(list(self.folder.rglob("*.jpg"))), 3)
        self.assertEqual(first.focal_35mm, 26.0)

    def test_a_failed_write_leaves_no_part(self) -> None:
        path = self.folder / "photos" / "aa"
        path.mkdir(parents=True)
        (path / "x.jpg").mkdir()  # a folder stands where the file should go
        (path / "x.jpg" / "in the way").write_text("")
        write_once(path / "x.jpg", b"data")
        self.assertEqual([p.name for p in path.glob(".part-*")], [])
