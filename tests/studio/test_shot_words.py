"""What is said of a photograph on photographs of bodies: as they are, and spoilt in known ways."""

import io
import json
import unittest
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import cv2
import numpy as np
from PIL import Image

from dachi.core.measuring.cards import Sighting
from dachi.core.measuring.recognise import certain, likenesses
from dachi.data import catalogue
from dachi.photos.stickers import decode
from dachi.studio.bench.seen_joints import see, see_anybody
from dachi.studio.visits import recognised
from dachi.studio.visits.shot_words import concerns
from tests import slow
from tests.support import Pages

PICTURES = Path(__file__).parents[1] / "pictures"
SHEET = [
    (catalogue().pose(p), s)
    for p, sides in (("supine-leg-raise", ("left", "right")), ("low-lunge", ("left", "right")),
                     ("butterfly", ("both",)))
    for s in sides
]  # fmt: skip


def picture(name: str) -> tuple[np.ndarray, str]:
    told = json.loads((PICTURES / f"{name}.json").read_text())
    side = told["side"] if catalogue().pose(name).sides != "both" else "both"
    return decode((PICTURES / f"{name}.jpg").read_bytes()), side


def said(image: np.ndarray, pose_id: str, side: str, **more: Any) -> list[tuple[str, str]]:
    pose = catalogue().pose(pose_id)
    found = see(image, pose, side, pose.default_variant())
    roughly, size = see_anybody(image, SHEET), (image.shape[1], image.shape[0])
    seen = certain(likenesses(roughly, SHEET, size)) if roughly else None
    return [(c.use.value, c.words) for c in concerns(image, pose, side, found, None, seen, **more)]


class Words(unittest.TestCase):
    def test_good_ones_can_be_used(self) -> None:
        for name in ("supine-leg-raise", "low-lunge", "butterfly"):
            image, side = picture(name)
            with self.subTest(name):
                self.assertEqual(said(image, name, side), [])

    @slow("spoils many pictures")
    def test_spoilt_ones(self) -> None:
        image, side = picture("low-lunge")
        h, w = image.shape[:2]
        dark = (image * 0.12).astype(np.uint8)
        blurred = cv2.GaussianBlur(image, (0, 0), 6.0)
        knee = json.loads((PICTURES / "low-lunge.json").read_text())["marks"]["back_knee"]
        scale = w / 1600
        cut = image[: round(knee[1] * scale) + 2]
        other = "left" if side == "right" else "right"
        for spoilt, pose, on, kind, words in (
            (dark, "low-lunge", side, "retake", "Too dark"),
            (blurred, "low-lunge", side, "retake", "Blurred"),
            (cut, "low-lunge", side, "retake", "Cut off at the edge"),
            (image, "low-lunge", other, "retake", f"Looks like the {side} side"),
            (image, "butterfly", "both", "watch", "Looks like the low lunge"),
            (np.full((h, w, 3), 150, np.uint8), "low-lunge", side, "retake", "Nobody can be made out"),
        ):  # fmt: skip
            with self.subTest(words):
                found = said(spoilt, pose, on)
                self.assertTrue(any(k == kind and words in t for k, t in found), found)

    def test_camera_and_cards(self) -> None:
        image, side = picture("butterfly")
        self.assertTrue(
            any("corner card" in t for _, t in said(image, "butterfly", side, cards_used=True))
        )
        straddle = catalogue().pose("straddle")
        for height, expected in ((0.5, True), (0.6, False)):
            camera = SimpleNamespace(height_cm=height * straddle.camera.height_cm)
            sighting = Sighting((1, 2, 3), estimate=SimpleNamespace(camera=camera))  # type: ignore[arg-type]
            found = concerns(image, straddle, "both", None, sighting)
            self.assertEqual(any("cm up" in c.words for c in found), expected)


class OnThePhone(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        self.aid = self.new_assessment()
        page = self.text(self.post(f"/a/{self.aid}/phone", follow_redirects=True))
        self.link = "/c/" + page.split("/c/")[1].split("<")[0].split('"')[0]
        self.phone = self.app.test_client()

    def send(self, data: bytes, once: str) -> dict[str, Any]:
        form = {"pose": "supine-leg-raise", "side": "left", "mode": "passive", "number": once,
                "once_key": f"k{once}", "photo": (io.BytesIO(data), "a.jpg")}  # fmt: skip
        answer = self.phone.post(f"{self.link}/photo", data=form)
        self.assertEqual(answer.status_code, 200, answer.get_data(as_text=True)[:200])
        return dict(answer.json or {})

    def last(self) -> dict[str, Any]:
        return dict(self.phone.get(f"{self.link}/state").json["last"])

    @slow("the network looks at pictures")
    def test_what_was_sent_is_looked_at_and_may_be_replaced(self) -> None:
        sent = self.send((PICTURES / "supine-leg-raise.jpg").read_bytes(), "1")
        self.assertEqual((sent["last"]["looked"], sent["last"]["said"]), (False, []))
        recognised.look_at_all(self.work)
        self.assertEqual((self.last()["looked"], self.last()["said"]), (True, []))
        nobody = io.BytesIO()
        Image.new("RGB", (900, 700), (150, 150, 150)).save(nobody, "JPEG")
        self.send(nobody.getvalue(), "2")
        recognised.look_at_all(self.work)
        last = self.last()
        self.assertIn("Nobody can be made out", last["said"][0][1])
        # Another's number changes nothing; its own frees the place.
        stale = self.phone.post(f"{self.link}/replace", data={"trial": str(last["trial"] - 1)})
        self.assertEqual(stale.status_code, 409)
        answer = self.phone.post(f"{self.link}/replace", data={"trial": str(last["trial"])})
        self.assertEqual(answer.status_code, 200)
        slot = next(s for s in answer.json["order"] if s["words"] == last["words"])
        self.assertFalse(slot["taken"])
        self.assertNotEqual(self.last()["trial"], last["trial"])
        sheet = self.text(self.client.get(f"/a/{self.aid}?pose=supine-leg-raise"))
        self.assertIn("bring it back", sheet)

    def test_a_cut_link_replaces_nothing(self) -> None:
        self.send((PICTURES / "supine-leg-raise.jpg").read_bytes(), "1")
        trial = str(self.last()["trial"])
        self.assertEqual(
            self.phone.post(f"{self.link[:-3]}/replace", data={"trial": trial}).status_code, 404
        )
        self.assertEqual(str(self.last()["trial"]), trial)
