"""One visit walked through every page: no number is shown that another page contradicts."""

import csv
import io
import json
import re
import zipfile

from dachi.data import catalogue
from dachi.store import assessments, practitioners
from dachi.studio.verdicts import report
from tests.support import LEG_RAISE, Pages, day_ago, rendered

FAMILY = "leg_line"
#: Side and mode, true angles of its trials.
SHOTS = {
    ("left", "active"): (61.0,), ("left", "passive"): (76.0, 79.0),
    ("right", "active"): (66.0,), ("right", "passive"): (83.0,),
}  # fmt: skip
PLACE = tuple[str, str]


def whole(text: str) -> int:
    return round(float(text.replace("−", "-")))


class EveryNumber(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        consent = {"scope": "show", "given_on": day_ago(9), "lasts": ""}
        self.post(f"/p/{self.pid}/consent", consent)
        self.aid = self.new_assessment()
        self.trials: dict[tuple[str, str, int], int] = {}
        for (side, mode), values in SHOTS.items():
            for number, value in enumerate(values, start=1):
                picture, truth = rendered(side, value, seed=number + 3)
                answer = self.upload(self.aid, picture, side=side, mode=mode, number=str(number))
                tid = int(answer.headers["Location"].rsplit("/", 1)[1])
                form = self.marks_form(truth | {"pose": LEG_RAISE}) | {"sure": "1"}
                self.post(f"/t/{tid}/save", form)
                self.trials[side, mode, number] = tid

    def page(self, path: str) -> str:
        return self.text(self.client.get(path, follow_redirects=True))

    def bench(self, tid: int) -> tuple[int, int]:
        """Angle and half width of a photograph, whole degrees."""
        page = self.page(f"/t/{tid}")
        found = re.search(rf'data-measure="{FAMILY}" data-value="([\d.-]+)">([^<]+)<', page)
        assert found is not None, page[:300]
        told = re.fullmatch(r"(−?\d+)° ± (\d+)°", found[2].strip())
        assert told is not None, found[2]
        self.assertEqual(whole(found[1]), whole(told[1]))
        return whole(told[1]), int(told[2])

    def test_no_page_contradicts_another(self) -> None:
        shown = {k: self.bench(tid) for k, tid in self.trials.items()}
        for (side, mode, number), value in (
            (k, v) for (s, m), vs in SHOTS.items() for k, v in [((s, m, n + 1), x) for n, x in enumerate(vs)]
        ):  # fmt: skip
            self.assertAlmostEqual(shown[side, mode, number][0], value, delta=4.0)
        sheet = self.page(f"/a/{self.aid}?pose={LEG_RAISE}")
        review = self.page(f"/a/{self.aid}/review")
        for key, (angle, half) in shown.items():
            said = f"{angle}° ± {half}°"
            self.assertIn(f"<b>{said}</b>", sheet, key)
        rows = csv.DictReader(io.StringIO(self.page(f"/p/{self.pid}/readings.csv")))
        stored = {
            (r["side"], r["mode"], int(r["trial"])): float(r["value"])
            for r in rows
            if r["measure"] == FAMILY
        }
        self.assertEqual({k: round(v) for k, v in stored.items()}, {k: v[0] for k, v in shown.items()})  # fmt: skip

        # A visit's value is the mean of its trials, wherever it stands.
        visit: dict[PLACE, int] = {}
        for side, mode in SHOTS:
            own = [v for (s, m, _), v in stored.items() if (s, m) == (side, mode)]
            visit[side, mode] = round(sum(own) / len(own))
        chart = self.page(f"/p/{self.pid}?pose={LEG_RAISE}")
        heads = re.findall(r'<th scope="col">(left|right) (active|passive)</th>', chart)
        cells = re.findall(r'<td><a href="/t/\d+">(−?\d+)°</a>', chart)
        self.assertEqual({tuple(h): whole(c) for h, c in zip(heads, cells, strict=True)}, visit)
        table = re.findall(r"</span> (left|right) (active|passive)</th><td><b>(−?\d+)°</b>", review)
        self.assertEqual({(s, m): whole(v) for s, m, v in table}, visit)
        for side in ("left", "right"):
            strip = re.search(rf'visually-hidden">{side}</span>Supine leg raise <b>(−?\d+)°', review)  # fmt: skip
            assert strip is not None
            self.assertEqual(whole(strip[1]), visit[side, "passive"])
        who = practitioners.get(self.db, self.coach.id, self.pid)
        held = assessments.get(self.db, self.coach.id, self.aid)
        assert who is not None and held is not None
        wanted = report.Wanted(frozenset({f"{LEG_RAISE}.{FAMILY}"}))
        (part,) = report.gather(self.work, who, held, wanted, "Wenna").parts
        for row in part.rows:
            told = re.fullmatch(r"(−?\d+)° ± (\d+)°", row.today)
            assert told is not None, row.today
            self.assertEqual(whole(told[1]), visit[row.side, row.mode])
            best = min(h for (s, m, _), (_, h) in shown.items() if (s, m) == (row.side, row.mode))
            self.assertGreaterEqual(int(told[2]) + 1, best, "the day to day is in it")
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        link = re.search(r"<code>[^<]*?(/me/[^<]+)</code>", self.page(f"/p/{self.pid}/practice"))
        assert link is not None
        own_page = self.page(link[1])
        now = re.search(r'<p class="own-now">(.*?)</p>', own_page, re.DOTALL)
        assert now is not None
        self.assertEqual(
            [whole(v) for v in re.findall(r"<b>(−?\d+)°", now[1])],
            [visit["left", "passive"], visit["right", "passive"]],
        )
        with zipfile.ZipFile(io.BytesIO(self.client.get(f"{link[1]}/data.zip").data)) as bundle:
            ranges = json.loads(bundle.read("ranges.json"))
        (family,) = [f for r in ranges for f in r["families"] if f["family"] == FAMILY]
        self.assertEqual({(x["side"], x["mode"]): round(x["value"]) for x in family["lines"]}, visit)  # fmt: skip
        self.assertEqual(catalogue().pose(LEG_RAISE).headline.family, FAMILY)
