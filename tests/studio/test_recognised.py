"""A folder of photographs of bodies this program did not make falls onto its places."""

import json
import re
from pathlib import Path
from unittest import mock

from dachi.core.assessing.runsheet import SheetLine
from dachi.store import run_sheets, unsorted_photos
from dachi.studio.visits import recognised
from tests.support import Pages, plain_picture

PICTURES = Path(__file__).parents[1] / "pictures"


class Tray(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        self.aid = self.new_assessment()
        told = [json.loads(f.read_text()) for f in sorted(PICTURES.glob("*.json"))]
        self.truth = {t["pose"]: t["side"] if t["pose"] != "butterfly" else "both" for t in told}
        lines = [
            SheetLine(pose, side, "passive", 1)
            for pose in ("supine-leg-raise", "butterfly", "low-lunge", "deep-squat")
            for side in (("both",) if pose in ("butterfly", "deep-squat") else ("left", "right"))
        ]
        run_sheets.save(self.db, self.coach.id, self.aid, lines)

    def send(self, *named: tuple[str, bytes]) -> None:
        import io

        answer = self.post(
            f"/a/{self.aid}/tray", {"photo": [(io.BytesIO(d), n) for n, d in named]},
            content_type="multipart/form-data",
        )  # fmt: skip
        self.assertEqual(answer.json["problems"], [])

    def chosen(self) -> dict[str, str]:
        page = self.text(self.client.get(f"/a/{self.aid}/tray"))
        names = {str(w.photo_id): w.name for w in self.waiting()}
        found = {}
        for box in re.findall(r'<select[^>]*name="place-(\d+)">(.*?)</select>', page, re.S):
            taken = re.search(r'value="([^"]+)" selected', box[1])
            found[names[box[0]]] = taken[1] if taken else ""
        return found

    def waiting(self) -> list[unsorted_photos.UnsortedPhoto]:
        return unsorted_photos.of_assessment(self.db, self.coach.id, self.aid)

    def test_photographs_fall_onto_their_places(self) -> None:
        order = ("low-lunge", "supine-leg-raise", "butterfly")
        self.send(*((f"{p}.jpg", (PICTURES / f"{p}.jpg").read_bytes()) for p in order))
        self.app.config["PROPOSE"] = True
        with mock.patch("dachi.web.rooms.unsorted.see_waiting"):
            page = self.text(self.client.get(f"/a/{self.aid}/tray"))
            hand = self.text(self.client.get(f"/a/{self.aid}/tray?by=hand"))
        self.assertIn("Looking at the pose of each: 0 of 3", page)
        self.assertNotIn("Put them on the sheet", page, "not before they were looked at")
        self.assertNotIn("selected", hand, "by its order alone nothing is placed unlooked")
        self.assertEqual(recognised.look_at_all(self.work), 3)
        page = self.text(self.client.get(f"/a/{self.aid}/tray"))
        self.assertNotIn("still being looked at", page)
        self.assertIn("Looks like the butterfly", page)
        for pose, place in self.chosen().items():
            with self.subTest(pose):
                name, side, *_ = place.split("|")
                self.assertEqual((name, side), (pose[:-4], self.truth[pose[:-4]]))

    def test_nobody_is_asked_about(self) -> None:
        self.send(("wall.jpg", plain_picture(800, 600)))
        recognised.look_at_all(self.work)
        self.assertEqual([w.joints for w in self.waiting()], [{}])
        page = self.text(self.client.get(f"/a/{self.aid}/tray"))
        self.assertIn("Not plain to see", page)
        # Only by its time: the first free place.
        self.assertEqual(self.chosen(), {"wall.jpg": "supine-leg-raise|left|passive|1"})

    def test_a_picture_that_is_gone_stops_nothing(self) -> None:
        self.send(("a.jpg", plain_picture(800, 600)), ("b.jpg", plain_picture(640, 480)))
        next(self.folder.glob("photos/*/*.jpg")).unlink()
        self.assertEqual(recognised.look_at_all(self.work), 2)
        self.assertEqual(recognised.look_at_all(self.work), 0)
