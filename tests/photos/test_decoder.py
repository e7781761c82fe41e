"""Pictures read in a process of its own: what takes too long or too much ends there and is said."""

import io
import os
import threading
import time
import unittest
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

import numpy as np
from PIL import Image, ImageCms

from dachi.photos import decoded, decoder
from dachi.photos.decoded import PhotoError
from tests.support import plain_picture


def jpeg(image: Image.Image, **save: Any) -> bytes:
    out = io.BytesIO()
    image.save(out, "JPEG", **save)
    return out.getvalue()


def scans(data: bytes, count: int) -> bytes:
    """A progressive JPEG with its last scan written many times over."""
    at = data.rfind(b"\xff\xda")
    return data[:-2] + data[at:-2] * count + data[-2:]


def with_exif(tags: dict[int, Any]) -> bytes:
    """A picture whose camera said odd things."""
    image = Image.new("RGB", (640, 480), (90, 120, 140))
    data = image.getexif()
    inner = data.get_ifd(0x8769)
    inner.update(tags)
    return jpeg(image, exif=data)


class Refused(unittest.TestCase):
    def tearDown(self) -> None:
        decoder.let_go()

    def said(self, data: bytes) -> str:
        with self.assertRaises(PhotoError) as caught:
            decoder.decode(data)
        return str(caught.exception)

    def test_layers_no_camera_writes(self) -> None:
        noise = np.random.default_rng(1).integers(0, 255, (480, 640, 3), np.uint8)
        layered = jpeg(Image.fromarray(noise), progressive=True, quality=60)
        self.assertLess(layered.count(b"\xff\xda"), 20)
        self.assertEqual(decoder.decode(layered).width, 640)
        self.assertIn("more layers than any camera writes", self.said(scans(layered, 400)))

    def test_a_strip(self) -> None:
        self.assertIn("a strip, and no photograph", self.said(jpeg(Image.new("L", (320, 40_000)))))

    def test_what_takes_too_long_is_ended_and_the_next_is_read(self) -> None:
        """A file in front of which the decoder sits for ever."""
        with decoder._worker() as worker:
            pid = worker.process.pid
        began = time.monotonic()
        with (
            mock.patch.object(decoder, "LIMIT_S", 0.3),
            mock.patch.object(decoder, "_write", side_effect=stopping(pid)),
        ):
            self.assertIn("takes longer to read", self.said(plain_picture()))
        self.assertLess(time.monotonic() - began, 5)
        self.assertEqual(decoder.decode(plain_picture()).width, 640)

    def test_what_ends_the_process(self) -> None:
        with decoder._worker() as worker:
            pid = worker.process.pid
        with mock.patch.object(decoder, "_write", side_effect=killing(pid)):
            self.assertIn("takes more memory", self.said(plain_picture()))
        self.assertEqual(decoder.decode(plain_picture()).width, 640)

    def test_a_process_that_was_taken_over_says_nothing_of_its_own(self) -> None:
        """Its answers are read as what they should be: none of them is run."""
        decoder.decode(plain_picture())
        for answer in (b"\x80\x04cos\nsystem\n", b"", b"\xc1"):
            with mock.patch.object(decoder, "_read", side_effect=[b"", answer]), self.assertRaises(PhotoError):  # fmt: skip
                decoder.decode(plain_picture())
        self.assertEqual(decoder.decode(plain_picture()).width, 640)

    def test_memory_is_limited(self) -> None:
        """79 megapixels are read in what there is; the limit is the process's, not ours."""
        big = jpeg(Image.new("RGB", (10_000, 7_900), (10, 90, 200)))
        self.assertTrue(decoded.is_large(big))
        self.assertEqual(decoder.decode(big).width, 10_000)
        decoder.let_go()
        with mock.patch.dict(os.environ, {"DACHI_DECODE_BYTES": str(500 << 20)}):
            self.assertIn("takes more memory", self.said(big))

    def test_one_large_at_a_time(self) -> None:
        seen: list[int] = []
        running = threading.Semaphore(1)
        real = decoder._Worker.ask

        def ask(self: Any, what: str, *args: Any, **more: Any) -> Any:
            if what != "decode":
                return real(self, what, *args, **more)
            seen.append(running.acquire(blocking=False))
            try:
                return real(self, what, *args, **more)
            finally:
                running.release()

        big = jpeg(Image.new("RGB", (5_000, 4_000), (10, 90, 200)))
        with mock.patch.object(decoder._Worker, "ask", ask):
            threads = [threading.Thread(target=decoder.decode, args=(big,)) for _ in range(3)]
            for t in threads:
                t.start()
            for t in threads:
                t.join()
        self.assertEqual(seen, [True] * 3)


def stopping(pid: int) -> Any:
    """Writes to a process that is stopped: it takes what is written and answers nothing."""
    real = decoder._write

    def write(pipe: Any, body: bytes) -> None:
        os.kill(pid, 19)
        real(pipe, body)

    return write


def killing(pid: int) -> Any:
    real = decoder._write

    def write(pipe: Any, body: bytes) -> None:
        os.kill(pid, 9)
        time.sleep(0.05)
        real(pipe, body)

    return write


class Kept(unittest.TestCase):
    """What of a photograph stays: its picture, and nothing that says more."""

    ODD: ClassVar = ("inches", (1, 0), float("inf"), b"\xff", -1, 0, 10**30)

    def test_odd_words_of_a_camera(self) -> None:
        for tag in (0x920A, 0xA20E, 0xA210, 0xA405):
            for value in self.ODD:
                with self.subTest(tag=hex(tag), value=value):
                    try:
                        data = with_exif({0x920A: 5.0, 0xA20E: 300.0, 0xA210: 2} | {tag: value})
                    except Exception:
                        # Nobody can write such a file.
                        continue
                    found = decoded.decode(data)
                    self.assertTrue(found.focal_35mm is None or 8 <= found.focal_35mm <= 400)

    def test_a_profile_is_applied_and_left_behind(self) -> None:
        """Its colours are meant as it says; what is written into it is nobody's business."""
        marked = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
        marked = marked.replace(b"sRGB", b"WHOM", 1)
        picture = Image.new("RGB", (640, 480), (200, 40, 60))
        found = decoded.decode(jpeg(picture, icc_profile=marked))
        for data in (found.stored, found.preview, found.thumb):
            self.assertNotIn(b"WHOM", data)
            self.assertNotIn("icc_profile", Image.open(io.BytesIO(data)).info)
        lab = ImageCms.ImageCmsProfile(ImageCms.createProfile("LAB")).tobytes()
        for odd in (b"no profile", b"", lab, marked[:200]):
            with self.subTest(odd[:10]):
                kept = decoded.decode(jpeg(picture, icc_profile=odd) if odd else jpeg(picture))
                with Image.open(io.BytesIO(kept.stored)) as image:
                    red, green, blue = image.getpixel((5, 5))  # type: ignore[misc]
                self.assertLess(abs(red - 200) + abs(green - 40) + abs(blue - 60), 12)

    def test_noise_is_a_picture_too(self) -> None:
        noise = np.random.default_rng(1).integers(0, 255, (3000, 4000), np.uint8)
        data = jpeg(Image.fromarray(noise), quality=98)
        self.assertEqual(decoded.decode(data).width, 4000)
        bits = io.BytesIO()
        Image.fromarray(noise > 127).save(bits, "PNG")
        self.assertEqual(decoded.decode(bits.getvalue()).height, 3000)

    def test_the_process_says_what_the_library_says(self) -> None:
        for data in (plain_picture(), plain_picture(2000, 1500, "PNG", "RGBA"), plain_picture(700, 500, "WEBP")):  # fmt: skip
            self.assertEqual(decoder.decode(data), decoded.decode(data))
        decoder.let_go()

    def test_nothing_of_it_is_left_in_this_process(self) -> None:
        """Only what is kept comes back."""
        self.assertIn("dachi/photos/decoder.py", Path(decoder.__file__).as_posix())
        found = decoder.decode(plain_picture(640, 480))
        self.assertLess(len(found.stored) + len(found.preview) + len(found.thumb), 500_000)
        decoder.let_go()


if __name__ == "__main__":
    unittest.main()
