"""The mat's outline in a photograph, where it stands out from the floor.

A mat of known size on the floor, seen by a camera that stands about where the pose asks for, is
seven numbers (camera: way round, distance, height, turn, pitch, roll, focal length). Many are
drawn from what is usual and judged coarsely: inside the outline one colour, outside another, the
person near its middle line; patches of one colour by the person (``mat_patches``) are others. The
best are fitted to the edges themselves, step by step closer, and
the one whose edges are seen best counts. Corners come from the fitted camera, so that one hidden
behind the person is told too; how surely, the covariance of the fit says.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from dachi.core.body.pinhole import CORNERS, DEFAULT_FOCAL_35MM, focal_in_px, mat_points
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.body_priors import held
from dachi.core.measuring.scene import Point
from dachi.photos.mat_patches import four_cornered

Array = NDArray[np.float64]
Pixels = NDArray[np.float32]
Mask = NDArray[np.bool_]

#: What a camera set up by eye strays by: way round, log distance, turn, pitch, roll, radians;
#: height as a share and cm more; log focal length known and unknown, distance where unknown.
STRAYS = {"round": math.radians(22), "distance": 0.18, "turn": math.radians(4),
          "pitch": math.radians(3), "roll": math.radians(1.5)}  # fmt: skip
HEIGHT_SHARE, HEIGHT_CM = 0.2, 6.0
FOCAL_KNOWN, FOCAL_UNKNOWN, FURTHER_UNKNOWN = 0.02, 0.15, 0.22
#: Cameras stand a little further off than asked for, to get all in.
FURTHER = 0.08
#: Drawn at first; kept, whose corners lie this far apart, px at 1600; drawn about each, how widely.
DRAWN, KEPT, FAR_PX = 30000, 300, 60.0
ABOUT, AGAIN = 16, (0.3, 0.2, 0.12)
#: How near corners that something else tells are taken, px at 1600.
LAID_PX = 8.0
#: Steps that take, and by how much a state is nudged for its slopes, in standard deviations.
STEPS, NUDGE = 15, 1e-3
#: Px across of the pictures they are judged on, at first and then.
WIDTHS = (240, 480)
#: Starts whose corners lie this far apart, px at 1600, are fitted, so many.
APART_PX, FITTED = 25.0, 70
#: How far from an edge its step of colour is looked for, px at 1600, from far to near.
REACHES = (22, 15, 10, 7, 5, 3, 3)
#: Weights of lightness and colour.
LAB = np.array([0.6, 1.3, 1.3], dtype=np.float32)
ALONG, ALONG_COARSE = 44, 18
#: The edges of a mat have a thickness that is seen too: inside must be the mat's own colour.
OWN_COLOUR, MOST_STEP, STAY = 1.2, 22.0, 0.1
#: An outline is proposed where its edges are seen this well and its corners are this sure.
LEAST_SEEN, LEAST_EDGE, MOST_SD_PX = 0.62, 0.4, 6.0
#: An edge that is hidden by less than half must be seen; another outline that fits nearly as well
#: and lies elsewhere makes both doubtful.
PLAIN, RIVAL, RIVAL_PX = 0.5, 0.06, 12.0
#: How far from a corner, px at 1600, its edges are looked at before and beyond it; what edges that
#: end there count, and the least of it: right outlines have 0.8 to 1, others under 0.7.
BESIDE_CORNER, ENDS, LEAST_ENDS = np.arange(6.0, 36.0, 3.0), 0.3, 0.7
#: An edge seen along less than this is no evidence; one that fits along this share is all of it.
HIDDEN, TRUSTED = 0.2, 0.6
#: An edge's own spread, px at 1600.
EDGE_SD = 1.2
FULL = 1600.0
_NUDGES = np.vstack([np.zeros(7), NUDGE * np.eye(7)])


@dataclass(frozen=True)
class Outline:
    """A mat's corners by name, px, and the spread of each, px."""

    corners: dict[str, Point]
    sds_px: dict[str, float]


@dataclass(frozen=True)
class _Level:
    """A picture of some size, in weighted Lab, with the person masked."""

    lab: Pixels
    hidden: NDArray[np.bool_]
    focal: float
    hips: Array | None


def find_mat(
    image: NDArray[np.uint8],
    pose: Pose,
    side: str,
    mat_cm: tuple[float, float],
    focal_35mm: float | None,
    joints: Mapping[str, Point] | None,
    hidden: Mask | None = None,
    near: Mapping[str, Point] | None = None,
) -> Outline | None:
    """The mat's outline in an RGB picture; None where none stands out for certain.

    ``mat_cm`` is its length and width, ``joints`` the person's, px, where they were seen, and
    ``hidden`` where the person is; ``near`` the corners another picture from there told, looked at
    first.
    """
    search = _Search(image, pose, side, mat_cm, focal_35mm, joints, hidden)
    return (search.at(near) if near else None) or search.run()


def _cameras(p: Array, focal: float) -> tuple[Array, Array, Array]:
    """Rotations (n, 3, 3), translations (n, 3) and focal lengths (n,) of states (n, 7)."""
    around, log_distance, height, turn, pitch, roll, log_focal = p.T
    distance, yaw = np.exp(log_distance), around + turn
    eye = np.stack([-distance * np.sin(around), -distance * np.cos(around), height], axis=1)
    cp, sp, cy, sy = np.cos(pitch), np.sin(pitch), np.cos(yaw), np.sin(yaw)
    forward = np.stack([sy * cp, cy * cp, sp], axis=1)
    level = np.stack([cy, -sy, np.zeros_like(cy)], axis=1)
    up = np.cross(level, forward)
    right = np.cos(roll)[:, None] * level - np.sin(roll)[:, None] * up
    rotation = np.stack([right, np.cross(forward, right), forward], axis=1)
    return rotation, -(rotation @ eye[:, :, None])[:, :, 0], focal * np.exp(log_focal)


def _project(p: Array, points: Array, shape: tuple[int, ...], focal: float) -> tuple[Array, Array]:
    """Points (k, 3) seen by states (n, 7): px (n, k, 2) and depth (n, k)."""
    rotation, t, f = _cameras(p, focal)
    q = np.einsum("nij,kj->nki", rotation, points) + t[:, None]
    z = np.maximum(q[..., 2], 1.0)
    middle = np.array([shape[1] / 2, shape[0] / 2])
    return f[:, None, None] * q[..., :2] / z[..., None] + middle, q[..., 2]


class _Search:
    """One picture, looked through."""

    def __init__(
        self,
        image: NDArray[np.uint8],
        pose: Pose,
        side: str,
        mat_cm: tuple[float, float],
        focal_35mm: float | None,
        joints: Mapping[str, Point] | None,
        hidden: Mask | None,
    ) -> None:
        scale = FULL / max(image.shape[:2])
        self.scale = scale
        if abs(scale - 1.0) > 0.01:
            image = cv2.resize(
                image, None, fx=scale, fy=scale,
                interpolation=cv2.INTER_AREA if scale < 1 else cv2.INTER_LINEAR,
            ).astype(np.uint8)  # fmt: skip
        lab = cv2.cvtColor(image, cv2.COLOR_RGB2LAB).astype(np.float32) * LAB
        focal = focal_in_px(focal_35mm or DEFAULT_FOCAL_35MM, image.shape[1], image.shape[0])
        hips = None
        if joints:
            hips = (np.array(joints["left.hip"]) + joints["right.hip"]) / 2 * scale
        covered = np.zeros(image.shape[:2], dtype=bool)
        if hidden is not None:
            size = (image.shape[1], image.shape[0])
            mask = cv2.resize(hidden.astype(np.uint8), size, interpolation=cv2.INTER_NEAREST)
            # A little more: beside a limb lies its shadow.
            covered = cv2.dilate(mask, np.ones((9, 9), np.uint8)) > 0
        blurred = np.asarray(cv2.GaussianBlur(lab, (0, 0), 1.0), dtype=np.float32)
        self.full = _Level(blurred, covered, focal, hips)
        self.levels = [self._smaller(lab, w) for w in WIDTHS]
        self.points = mat_points(*mat_cm, pose.view)
        stand, distance = pose.camera, pose.camera.distance_cm
        distance *= (focal_35mm or DEFAULT_FOCAL_35MM) / DEFAULT_FOCAL_35MM
        down = math.atan2(stand.height_cm - stand.look_at_cm, distance)
        self.mean = np.array(
            [0.0, math.log(distance) + FURTHER, stand.height_cm, 0.0, -down, 0.0, 0.0]
        )
        self.sd = np.array([
            STRAYS["round"], STRAYS["distance"] if focal_35mm else FURTHER_UNKNOWN,
            HEIGHT_SHARE * stand.height_cm + HEIGHT_CM,
            STRAYS["turn"], STRAYS["pitch"], STRAYS["roll"],
            FOCAL_KNOWN if focal_35mm else FOCAL_UNKNOWN,
        ])  # fmt: skip
        priors, _ = held(pose, side, pose.default_variant(), 1.0, calibrated=True)
        along = np.linspace(-100, 100, 21)
        self.line = np.zeros((21, 3))
        self.line[:, 0 if pose.view == "side" else 1] = along
        self.line[:, 2] = float(priors[0].mean[2])

    def _smaller(self, lab: Pixels, width: int) -> _Level:
        f = width / lab.shape[1]
        small = cv2.resize(lab, None, fx=f, fy=f, interpolation=cv2.INTER_AREA)
        size = (small.shape[1], small.shape[0])
        hidden = cv2.resize(
            self.full.hidden.astype(np.uint8), size, interpolation=cv2.INTER_NEAREST
        )
        hips = None if self.full.hips is None else self.full.hips * f
        return _Level(np.asarray(small), hidden > 0, self.full.focal * f, hips)

    def at(self, corners: Mapping[str, Point]) -> Outline | None:
        """The outline where another picture had it."""
        fit = self._fit(self._laid(np.array([corners[n] for n in CORNERS]) * self.scale))
        return fit.outline(self) if fit.good else None

    def _laid(self, wanted: Array) -> Array:
        """The state (7,) whose corners lie nearest to wanted ones (4, 2), px at 1600."""
        climbs = [self._climb(wanted, around) for around in (0.0, 1.0, -1.0)]
        return min(climbs, key=lambda found: found[0])[1]

    def _climb(self, wanted: Array, around: float) -> tuple[float, Array]:
        """Cost and state nearest to wanted corners from one side, by Gauss and Newton."""
        z = around * np.eye(7)[0]
        r = np.zeros(8)
        for _ in range(STEPS):
            states = self.mean + self.sd * (z + _NUDGES)
            q = _project(states, self.points, self.full.lab.shape, self.full.focal)[0]
            r = ((wanted - q[0]) / LAID_PX).ravel()
            slope = ((q[1:] - q[0]) / (NUDGE * LAID_PX)).reshape(7, 8).T
            step = np.linalg.solve(slope.T @ slope + np.eye(7), slope.T @ r - z)
            z = z + np.clip(step, -0.8, 0.8)
        return float(r @ r + z @ z), np.asarray(self.mean + self.sd * z)

    def _patches(self) -> list[Array]:
        """States (7,) of mats as patches of one colour by the person show them."""
        level = self.levels[-1]
        shrink = self.full.lab.shape[1] / level.lab.shape[1]
        return [
            self._as_mat(shrink * (four + 0.5)) for four in four_cornered(level.lab, level.hidden)
        ]

    def _as_mat(self, four: Array) -> Array:
        """The state (7,) nearest to four corners (4, 2) in whichever order they come."""
        q = _project(self.mean[None], self.points, self.full.lab.shape, self.full.focal)[0]
        if _area(four[None])[0] * _area(q)[0] < 0:
            four = four[::-1]
        ways = [self._laid(np.roll(four, k, axis=0)) for k in range(4)]
        at = _project(np.array(ways), self.points, self.full.lab.shape, self.full.focal)[0]
        miss = [
            np.abs(at[k] - np.roll(four, k, axis=0)).sum() / LAID_PX + self._strays(ways[k])
            for k in range(4)
        ]
        return ways[int(np.argmin(miss))]

    def run(self) -> Outline | None:
        """Draw, judge, fit, and take the best that is seen well enough."""
        rng = np.random.default_rng(1)
        coarse, finer = self.levels
        drawn = np.clip(rng.normal(0, 1.1, (DRAWN, 7)), -2.6, 2.6)
        p = self.mean + self.sd * drawn
        p = self._unlike(p, self._score(p, coarse), KEPT, FAR_PX)
        for width in AGAIN:
            p = self._climbed(p, rng, width, finer)
        p = self._unlike(p, self._score(p, finer), FITTED, APART_PX)
        fits = [self._fit(one) for one in (*self._patches(), *p)]
        best = max(fits, key=lambda f: f.seen)
        if not best.good:
            return None
        rivals = [f.p for f in fits if f.seen > best.seen - RIVAL]
        at = _project(np.array([best.p, *rivals]), self.points, self.full.lab.shape,
                      self.full.focal)[0]  # fmt: skip
        return best.outline(self) if np.abs(at - at[0]).max() < RIVAL_PX else None

    def _climbed(self, p: Array, rng: np.random.Generator, width: float, level: _Level) -> Array:
        """The best of each state and some drawn about it: none crowds out another."""
        near = p[:, None] + self.sd * width * rng.normal(0, 1, (len(p), ABOUT, 7))
        near[:, 0] = p
        score = self._score(near.reshape(-1, 7), level).reshape(len(p), ABOUT)
        return np.asarray(near[np.arange(len(p)), score.argmax(axis=1)])

    def _unlike(self, p: Array, score: Array, count: int, apart: float) -> Array:
        """The best states whose corners lie apart, px of the full picture."""
        p = p[np.argsort(-score)[: 20 * count]]
        at = _project(p, self.points, self.full.lab.shape, self.full.focal)[0].reshape(len(p), 8)
        free = np.ones(len(p), dtype=bool)
        chosen: list[int] = []
        for i in range(len(p)):
            if free[i]:
                chosen.append(i)
                free &= np.abs(at - at[i]).max(axis=1) > apart
            if len(chosen) == count:
                break
        return np.asarray(p[chosen])

    def _strays(self, p: Array) -> Array:
        return np.asarray((((p - self.mean) / self.sd) ** 2).sum(axis=-1))

    def _beside(self, p: Array, level: _Level) -> Array:
        """How far the hips lie from above the mat's middle line, (n,) in tens of cm, squared."""
        if level.hips is None:
            return np.zeros(len(p))
        q, z = _project(p, self.line, level.lab.shape, level.focal)
        a, way = q[:, :-1], np.diff(q, axis=1)
        along = ((level.hips - a) * way).sum(-1) / ((way**2).sum(-1) + 1e-9)
        gap: Array = a + np.clip(along, 0, 1)[..., None] * way - level.hips
        focal = level.focal * np.exp(p[:, 6])
        cm = np.hypot(gap[..., 0], gap[..., 1]) * z[:, :-1] / focal[:, None]
        return np.asarray(np.minimum((cm.min(axis=1) / 10) ** 2, 16.0))

    def _score(self, p: Array, level: _Level) -> Array:
        """How much outlines of states (n, 7) look like a mat's, by colour on both sides."""
        q, z = _project(p, self.points, level.lab.shape, level.focal)
        u = (np.arange(ALONG_COARSE) + 0.5) / ALONG_COARSE
        ahead = np.roll(q, -1, axis=1)
        edge = q[:, :, None] + (ahead - q)[:, :, None] * u[:, None]
        out, length = _outwards(q)
        deep = np.abs(_area(q)) / np.maximum(length.max(axis=1), 1.0)
        step = np.clip(0.15 * deep, 1.2, 3.5)[:, None, None, None]
        inside, ok = _colours(level, edge - step * out[:, :, None])
        outside, ok2 = _colours(level, edge + np.maximum(step, 2.0) * out[:, :, None])
        w = (ok & ok2).astype(np.float32)
        seen = w.sum(axis=(1, 2)) + 1e-6
        mat = (inside * w[..., None]).sum(axis=(1, 2)) / seen[:, None]
        own = np.linalg.norm(inside - mat[:, None, None], axis=-1)
        other = np.linalg.norm(outside - mat[:, None, None], axis=-1)
        here = np.linalg.norm(outside - inside, axis=-1)
        good = np.tanh(np.minimum(here, other) / 8.0) - 0.8 * np.tanh(own / 8.0)
        cover = w.mean(axis=2)
        each = (good * w).sum(axis=2) / (w.sum(axis=2) + 1e-6)
        weight = (length / length.sum(axis=1, keepdims=True) + 0.08) * cover
        score = (each * weight).sum(axis=1) / (weight.sum(axis=1) + 0.15)
        score = score - 0.004 * self._strays(p) - 0.03 * self._beside(p, level)
        return np.where((z > 20).all(axis=1), score, -9.0)

    def edges(self, q: Array, reach: int, u: Array, colour: Array | None = None) -> _Edges:
        """The strongest step of colour across each edge of an outline (4, 2), at places ``u``
        (4, n) along each, 0 to 1, within ``reach`` px. ``colour`` is the mat's, if it is known.
        """
        height, width = self.full.lab.shape[:2]
        count = u.shape[1]
        at = q[:, None] + (np.roll(q, -1, axis=0) - q)[:, None] * u[..., None]
        out = np.repeat(_outwards(q[None])[0][0][:, None], count, axis=1)
        steps = np.arange(-reach - 3, reach + 4)
        x, y = np.moveaxis(at[:, :, None] + out[:, :, None] * steps[:, None], -1, 0)
        inside = ((x > 1) & (x < width - 2) & (y > 1) & (y < height - 2)).all(axis=-1)
        profile = cv2.remap(
            self.full.lab, x.reshape(4 * count, -1).astype(np.float32),
            y.reshape(4 * count, -1).astype(np.float32), cv2.INTER_LINEAR,
        ).reshape(4, count, -1, 3)  # fmt: skip
        xi = np.clip(at[..., 0].round().astype(int), 0, width - 1)
        yi = np.clip(at[..., 1].round().astype(int), 0, height - 1)
        free = inside & ~self.full.hidden[yi, xi]
        low = (profile[:, :, :-6] + profile[:, :, 1:-5] + profile[:, :, 2:-4]) / 3
        high = (profile[:, :, 4:-2] + profile[:, :, 5:-1] + profile[:, :, 6:]) / 3
        step = np.linalg.norm(high - low, axis=-1)
        within = profile[:, :, :3].mean(axis=2)
        if colour is None:
            few = free.sum() <= 8
            colour = np.median(within.reshape(-1, 3) if few else within[free], axis=0)
        own = np.linalg.norm(low - colour, axis=-1)
        value = np.minimum(step, MOST_STEP) - OWN_COLOUR * own
        value = value - STAY * np.abs(np.arange(-reach, reach + 1))
        i = value.argmax(axis=-1)
        strong, own = _taken(step, i), _taken(own, i)
        j = np.clip(i, 1, 2 * reach - 1)
        before, here, after = (_taken(step, j + k) for k in (-1, 0, 1))
        bend = before - 2 * here + after
        between = 0.5 * (before - after) / np.where(np.abs(bend) > 1e-3, bend, np.inf)
        off = i - reach + np.where(i == j, np.clip(between, -0.5, 0.5), 0.0)
        found = free & (strong > 5) & (own < 10 + 0.3 * strong)
        return _Edges(out, free, found, off, np.tanh(strong / 12), colour)

    def _ends(self, q: Array, colour: Array) -> float:
        """Whether edges end where corners (4, 2) are: the share of places just before corners with
        an edge, less that of places just beyond them, 1 at best.
        """
        length = np.hypot(*(np.roll(q, -1, axis=0) - q).T)[:, None]
        step = BESIDE_CORNER / length
        told = []
        for way in (1.0, -1.0):
            found = self.edges(q, 3, np.hstack([way * step, 1.0 - way * step]), colour)
            hit = found.found & (np.abs(found.off) < 2.0)
            told.append((hit.sum(), found.free.sum()))
        if min(told[0][1], told[1][1]) < len(BESIDE_CORNER):
            # No corner is in sight: the rest must do.
            return LEAST_ENDS
        return float(told[0][0] / told[0][1] - told[1][0] / told[1][1])

    def _fit(self, p: Array) -> _Fit:
        """Draw an outline onto the edges near it, looking closer each time."""
        z = (p - self.mean) / self.sd
        info = np.eye(7)
        u = _along(ALONG)[0]
        for reach in REACHES:
            states = self.mean + self.sd * (z + _NUDGES)
            q = _project(states, self.points, self.full.lab.shape, self.full.focal)[0]
            edges = self.edges(q[0], reach, _along(ALONG))
            if edges.found.sum() < 20:
                break
            at = q[:, :, None] + (np.roll(q, -1, axis=1) - q)[:, :, None] * u[:, None]
            slope = ((at[1:] - at[0]) / NUDGE * edges.out).sum(axis=-1)[:, edges.found].T
            off = edges.off[edges.found]
            w = edges.clear * edges.trusted(reach)[:, None]
            w = w[edges.found] / (1 + (off / max(reach / 3, 1.0)) ** 2)
            w = w / max(reach / 4, EDGE_SD) ** 2
            info = (slope * w[:, None]).T @ slope + np.eye(7)
            z = z + np.clip(np.linalg.solve(info, (slope * w[:, None]).T @ off - z), -0.8, 0.8)
        return self._judged(self.mean + self.sd * z, np.asarray(np.linalg.inv(info)))

    def _judged(self, p: Array, covariance: Array) -> _Fit:
        q = _project(p[None], self.points, self.full.lab.shape, self.full.focal)[0][0]
        edges = self.edges(q, 5, _along(60))
        hit = edges.found & (np.abs(edges.off) < 2.0)
        free = edges.free.mean(axis=1)
        share = hit.sum(axis=1) / np.maximum(edges.free.sum(axis=1), 1)
        length = np.hypot(*(np.roll(q, -1, axis=0) - q).T)
        looked = (length * (free + 0.35 * (1 - free))).sum()
        seen = float(((hit * edges.clear).sum(axis=1) / 60 * length).sum() / max(looked, 1.0))
        worst = float(min((s for s, f in zip(share, free, strict=True) if f > PLAIN), default=0.0))
        seen += 0.3 * worst - 0.008 * float(self._strays(p)) - 0.03 * float(
            self._beside(p[None], self.full)[0]
        )  # fmt: skip
        ends = self._ends(q, edges.colour)
        return _Fit(p, covariance, seen + ENDS * (ends - LEAST_ENDS), worst, ends)


@dataclass(frozen=True)
class _Edges:
    """Along the four edges, (4, n): which way is out (4, n, 2), where nothing hides them, where a
    step of colour was found, how far out, px, and how clear it is, 0 to 1; the mat's colour.
    """

    out: Array
    free: NDArray[np.bool_]
    found: NDArray[np.bool_]
    off: Array
    clear: Array
    colour: Array

    def trusted(self, reach: int) -> Array:
        """How far each edge is believed, (4,): one that is mostly hidden, or along which steps
        lie here and there, says nothing of where the mat ends.
        """
        hit = self.found & (np.abs(self.off) < max(reach / 3, 2.0))
        share = hit.sum(axis=1) / np.maximum(self.free.sum(axis=1), 1)
        return np.where(self.free.mean(axis=1) > HIDDEN, np.clip(share / TRUSTED, 0, 1), 0.0)


@dataclass(frozen=True)
class _Fit:
    """A fitted camera (7,) with the covariance of its strays, how well its mat's edges are seen
    and the worst of them, and whether they end at the corners.
    """

    p: Array
    covariance: Array
    seen: float
    worst: float
    ends: float

    @property
    def good(self) -> bool:
        """Whether this may be proposed, its corners' spread aside."""
        return self.seen >= LEAST_SEEN and self.worst >= LEAST_EDGE and self.ends >= LEAST_ENDS

    def outline(self, search: _Search) -> Outline | None:
        """Corners of the picture as it came; None where one of them is not sure."""
        level = search.full
        q = _project(self.p + search.sd * _NUDGES, search.points, level.lab.shape, level.focal)[0]
        slope = (q[1:] - q[0]) / NUDGE
        variance = np.einsum("iab,ij,jab->ab", slope, self.covariance, slope).sum(axis=-1)
        sds = np.sqrt(variance / 2 + EDGE_SD**2)
        if sds.max() > MOST_SD_PX:
            return None
        at = q[0] / search.scale
        corners = {n: (float(x), float(y)) for n, (x, y) in zip(CORNERS, at, strict=True)}
        return Outline(corners, dict(zip(CORNERS, (sds / search.scale).tolist(), strict=True)))


def _outwards(q: Array) -> tuple[Array, Array]:
    """Unit normals (n, 4, 2) of outlines (n, 4, 2) that point out, and the edges' lengths."""
    ahead = np.roll(q, -1, axis=1)
    way = ahead - q
    normal = np.stack([-way[..., 1], way[..., 0]], axis=-1)
    length = np.linalg.norm(normal, axis=-1) + 1e-6
    normal = normal / length[..., None]
    from_middle = (q + ahead) / 2 - q.mean(axis=1, keepdims=True)
    return normal * np.sign((normal * from_middle).sum(axis=-1))[..., None], length


def _along(count: int) -> Array:
    """Places along four edges, (4, count), 0 to 1."""
    return np.tile((np.arange(count) + 0.5) / count, (4, 1))


def _area(q: Array) -> Array:
    """Areas (n,) of outlines (n, 4, 2), px squared, positive where they turn one way."""
    x, y = q[..., 0], q[..., 1]
    across = x * (np.roll(y, -1, axis=1) - np.roll(y, 1, axis=1))
    return np.asarray(across.sum(axis=1) / 2)


def _colours(level: _Level, at: Array) -> tuple[Pixels, NDArray[np.bool_]]:
    """The nearest pixel's colour, and whether it is in the picture and not the person's."""
    height, width = level.lab.shape[:2]
    x, y = at[..., 0].round().astype(int), at[..., 1].round().astype(int)
    inside = (x >= 0) & (x < width) & (y >= 0) & (y < height)
    x, y = np.clip(x, 0, width - 1), np.clip(y, 0, height - 1)
    return level.lab[y, x], inside & ~level.hidden[y, x]


def _taken(values: Array, index: NDArray[np.int_]) -> Array:
    return np.asarray(np.take_along_axis(values, index[..., None], axis=-1)[..., 0])
