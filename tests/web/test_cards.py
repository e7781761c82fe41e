"""Corner cards on the way from the printer to a reading."""

import io
import re
import zlib
from dataclasses import replace

from PIL import Image

from dachi.core.measuring.cards import CODES
from dachi.store import assessments, photos, positions
from dachi.studio.bench.around import surroundings
from dachi.studio.bench.opening import start
from dachi.studio.bench.scenes import scene_of
from tests import slow
from tests.photos.test_cards import picture
from tests.support import Pages


def jpeg(**how: object) -> bytes:
    """A photograph of cards as a phone would send it, its focal length told."""
    grey, _ = picture(1600, **how)
    image = Image.fromarray(grey).convert("RGB")
    told = Image.Exif()
    told.get_ifd(0x8769)[41989] = 26
    out = io.BytesIO()
    image.save(out, "JPEG", quality=90, exif=told)
    return out.getvalue()


class Cards(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()

    def sent(self, **how: object) -> int:
        answer = self.upload(self.new_assessment(), jpeg(**how))
        self.assertEqual(answer.status_code, 302, self.text(answer))
        return int(answer.headers["Location"].rsplit("/", 1)[1])

    def test_printed_codes_are_those_that_are_looked_for(self) -> None:
        page = self.text(self.client.get("/cards"))
        for size, points in (("a4", "595.28 841.89"), ("letter", "612.00 792.00")):
            self.assertIn(f"/cards.pdf?paper={size}", page)
            answer = self.client.get(f"/cards.pdf?paper={size}")
            self.assertEqual(answer.mimetype, "application/pdf")
            self.assertIn(points.encode(), answer.data)
            drawn = [
                zlib.decompress(x)
                for x in re.findall(rb"stream\n(.*?)\nendstream", answer.data, re.S)
                if x[:1] == b"x"
            ]
            pages = [d for d in drawn if d.count(b" re f") > 6]
            self.assertEqual(len(pages), 4)
            for (card, rows), content in zip(CODES.items(), pages, strict=True):
                white = sum(row.count("1") for row in rows)
                # The black square, its white cells, and this card on the small plan.
                fills = content.count(b" re f")
                self.assertEqual(fills, 1 + white, f"card {card}")
                self.assertRegex(content, rb"481\.89 -?481\.89 re f", "17 cm, at full size")
        self.assertEqual(self.client.get("/cards.pdf?paper=napkin").status_code, 404)

    def test_the_camera_is_known_without_a_click(self) -> None:
        tid = self.sent()
        page = self.text(self.client.get(f"/t/{tid}"))
        self.assertIn("The camera is known from cards 1, 2, 3 and 4.", page)
        self.assertRegex(page, r"\b(59|60|61) cm high")
        trial = assessments.trial(self.db, self.coach.id, tid)
        at = surroundings(self.work, trial)
        self.assertEqual(set(at.photo.cards or {}), {1, 2, 3, 4})
        marking, _ = start(self.work, at)
        scene = scene_of(at, marking)
        self.assertIsNone(marking.corners)
        self.assertLess(max(scene.mat.corner_sds_px.values()), 3.0)
        # Corners by hand count before the cards.
        by_hand = {n: (x + 9.0, y) for n, (x, y) in scene.mat.corners.items()}
        own = scene_of(at, replace(marking, corners=by_hand))
        self.assertEqual(own.mat.corners, by_hand)
        # A mat of another size is told from the same codes.
        positions.set_mat(self.db, self.coach.id, at.position.id, 150.0, 61.0)
        page = self.text(self.client.get(f"/t/{tid}"))
        self.assertNotIn("The camera is known from cards 1, 2, 3 and 4.</span>", page)

    @slow("renders many pictures")
    def test_a_camera_that_moves_is_noticed_and_one_that_stays_lends_its_cards(self) -> None:
        aid = self.new_assessment()

        def shot(number: int, **how: object) -> tuple[int | None, str]:
            answer = self.upload(aid, jpeg(seed=number, **how), number=str(number))
            tid = int(answer.headers["Location"].rsplit("/", 1)[1])
            trial = assessments.trial(self.db, self.coach.id, tid)
            return trial.position_id, self.text(self.client.get(f"/t/{tid}"))

        first, _ = shot(1)
        again, said = shot(2)
        self.assertEqual(again, first)
        self.assertNotIn("was moved before", said)
        moved, said = shot(3, yaw=-14.0)
        self.assertNotEqual(moved, first)
        self.assertIn("The camera was moved before this photograph", said)
        covered, said = shot(4, yaw=-14.0, cards=())
        self.assertEqual(covered, moved)
        self.assertIn("The camera is known from the cards of", said)
        self.assertRegex(said, r"\b(59|60|61) cm high")

    def test_too_few_cards_and_none(self) -> None:
        one = self.text(self.client.get(f"/t/{self.sent(cards=(2,))}"))
        self.assertIn("Only card 2 was found", one)
        none = self.text(self.client.get(f"/t/{self.sent(cards=(), seed=3)}"))
        self.assertNotIn("corner card was found", none)
        self.assertIn("Corner cards</a> would tell the camera", none)

    def test_nobody_else_writes_them(self) -> None:
        tid = self.sent()
        trial = assessments.trial(self.db, self.coach.id, tid)
        self.assertFalse(photos.set_cards(self.db, self.coach.id + 1, trial.photo_id, {}))
        self.assertTrue(photos.get(self.db, self.coach.id, trial.photo_id).cards)
