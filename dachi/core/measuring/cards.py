"""Corner cards: four printed sheets beside a mat's ends whose codes show where the camera stood.

Cards 1 to 4 lie counterclockwise as seen from above, 1 to 2 along a long side, each with an edge
against the mat's short end and a bottom edge flush with its long side. ``u`` runs along the mat
from card 1 to card 2, ``v`` from the long side of 1 and 2 to that of 4 and 3; origin at the
mat's middle, cm.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field, replace
from itertools import permutations

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.pinhole import CORNERS, Camera, focal_in_px, mat_points
from dachi.core.measuring.calibration import (
    CameraEstimate,
    Seen,
    moved_cameras,
    planar_cameras,
    refine,
    square_root,
)

Array = NDArray[np.float64]

#: Side of a card's code, and how far it lies from the two edges that touch the mat, cm.
CODE_CM, MARGIN_CM = 17.0, 2.0
#: Black and white cells of each code inside its black rim, top row first. Of the common codes of
#: four by four these differ from each other, turned or mirrored, and from themselves turned or
#: mirrored, in at least six cells.
CODES: dict[int, tuple[str, str, str, str]] = {
    1: ("1011", "0101", "0011", "0010"),
    2: ("0110", "1100", "0101", "1110"),
    3: ("0011", "0100", "0110", "1111"),
    4: ("1000", "1011", "1010", "0010"),
}
CARDS = tuple(CODES)


@dataclass(frozen=True)
class Ground:
    """What the cards lie around: a mat or a measured rectangle, its size in cm.

    ``below_cm`` is how far the cards lie below the surface people are on: the mat's thickness.
    """

    length_cm: float
    width_cm: float
    below_cm: float = 0.5


def code_corners(ground: Ground, card: int) -> Array:
    """Corners of a card's code, (4, 2) in u, v: top left, top right, bottom right, bottom left.

    As whoever stands outside the card's long side reads it.
    """
    turned = card in (3, 4)
    ahead = {1: -1.0, 2: 1.0, 3: -1.0, 4: 1.0}[card]
    near = ground.length_cm / 2 + MARGIN_CM
    u = sorted((ahead * near, ahead * (near + CODE_CM)))
    bottom = -ground.width_cm / 2 + MARGIN_CM
    found = np.array(
        [[u[0], bottom + CODE_CM], [u[1], bottom + CODE_CM], [u[1], bottom], [u[0], bottom]]
    )
    return -found if turned else found


def in_view(points: Array, view: str, *, from_far_side: bool) -> Array:
    """Points in u, v as x, y of a view's world frame, (n, 2).

    A side view stands at a long side, a front view at a short end; ``from_far_side`` at the long
    side of cards 4 and 3, or the end of cards 2 and 3.
    """
    u, v = points[:, 0], points[:, 1]
    sign = -1.0 if from_far_side else 1.0
    if view == "side":
        return sign * np.stack([u, v], axis=1)
    return sign * np.stack([-v, u], axis=1)


@dataclass(frozen=True)
class Placement:
    """How far cards lie from where they should, standard deviations: cm along and across, degrees.

    Laid against a mat's edge by hand; the paper is taken to be flat.
    """

    shift_cm: float = 0.3
    turn_deg: float = 0.7


@dataclass(frozen=True)
class Sighting:
    """What the cards in a picture tell of it.

    ``corners`` of the mat, px, with each one's standard deviation; ``seen`` are the cards the
    camera rests on. ``said`` are sentences for a coach; ``problem`` says why there is no camera.
    """

    seen: tuple[int, ...] = ()
    corners: Mapping[str, tuple[float, float]] | None = None
    corner_sds_px: Mapping[str, float] = field(default_factory=dict)
    estimate: CameraEstimate | None = None
    said: tuple[str, ...] = ()
    problem: str | None = None
    from_far_side: bool = False


#: Spread of a code's corner in a picture 1600 px across, px, and how many of it its rims may look
#: moved inwards together, as bright paper bleeds into black print.
CODE_SD_PX, BLEED = 0.4, 1.5
#: A camera turned further to the near edge stands at another side of the mat.
WIDEST_YAW_DEG = 50.0
#: Cards that disagree so many times more than usual still give a camera, with a word.
LOOSE = 4.0
#: Cards this much smaller or larger than they should be were printed at another scale.
SCALE_OFF = 0.03


def read_cards(
    found: Mapping[int, Array],
    ground: Ground,
    view: str,
    size: tuple[int, int],
    focal_35mm: float | None,
    placement: Placement = Placement(),
) -> Sighting:
    """The camera and the mat's corners from the codes of cards, (4, 2) px each.

    Which long side or end the camera stands at is told by the cards themselves. Every point of a
    card shares how the card was laid, so that four corners of one card do not count as four.
    A card that contradicts the others is left out and named.
    """
    if len(found) < 2:
        # One card is too small for a camera to rest on, but shows about where the others lie.
        rough = _best(found, ground, view, size, focal_35mm, placement) if found else None
        return Sighting(
            tuple(found), problem=_too_few(found),
            estimate=rough.estimate if rough else None,
            from_far_side=rough is not None and rough.far,
        )  # fmt: skip
    whole = _best(found, ground, view, size, focal_35mm, placement)
    limit = _limit(len(found))
    if whole is not None and whole.chi2 <= limit:
        return _told(whole, found, ground, view, size)
    if len(found) == len(CARDS):
        # Of four, the three that agree tell which one lies wrongly.
        rests = {
            card: _best(
                {c: p for c, p in found.items() if c != card},
                ground, view, size, focal_35mm, placement,
            )
            for card in found
        }  # fmt: skip
        fits = {c: f for c, f in rests.items() if f is not None and f.chi2 <= _limit(3)}
        if fits:
            card, fit = min(fits.items(), key=lambda pair: pair[1].chi2)
            rest = {c: p for c, p in found.items() if c != card}
            said = _how_wrong(card, found, fit, ground, view)
            return _told(fit, rest, ground, view, size, said)
    if whole is not None and whole.chi2 <= LOOSE * limit:
        # They lie a little worse than usual: how much worse, the fit itself says.
        said = ("The cards lie less exactly than they could: push each against the mat's end.",)
        spread = replace(
            whole.estimate, covariance=whole.estimate.covariance * (whole.chi2 / _freedom(found))
        )
        return _told(replace(whole, estimate=spread), found, ground, view, size, said)
    problem = _contradiction(found, ground, view, size, focal_35mm)
    return Sighting(tuple(sorted(found)), problem=problem)


def _freedom(found: Collection[int]) -> int:
    """Degrees of freedom: eight coordinates a card, less the camera's pose."""
    return 8 * len(found) - 6


def _limit(count: int) -> float:
    """Chi-square that cards lying well exceed once in ten thousand pictures, by count."""
    return {2: 35.6, 3: 49.2, 4: 61.7}[count]


def expected(
    sighting: Sighting, found: Iterable[int], ground: Ground, view: str
) -> dict[int, Array]:
    """Where the codes of cards that were not found must lie, (4, 2) px each."""
    if sighting.estimate is None:
        return {}
    missing = [c for c in CARDS if c not in set(found)]
    camera = sighting.estimate.camera
    return {c: camera.project(_points([c], ground, view, sighting.from_far_side)) for c in missing}


@dataclass(frozen=True)
class _Fit:
    """A camera that explains cards, seen from one of the two sides, with the codes' scale."""

    estimate: CameraEstimate
    far: bool
    scale: float
    chi2: float


def _best(
    found: Mapping[int, Array],
    ground: Ground,
    view: str,
    size: tuple[int, int],
    focal_35mm: float | None,
    placement: Placement,
) -> _Fit | None:
    fits = [
        fit
        for far in (False, True)
        if (fit := _fit(found, ground, view, far, size, focal_35mm, placement)) is not None
    ]
    return min(fits, key=lambda fit: fit.chi2, default=None)


def _points(cards: Iterable[int], ground: Ground, view: str, far: bool) -> Array:
    """Codes' corners in the view's world frame, (4n, 3), cm."""
    flat = np.vstack([code_corners(ground, c) for c in cards])
    xy = in_view(flat, view, from_far_side=far)
    return np.column_stack([xy, np.full(len(xy), -ground.below_cm)])


def _fit(
    found: Mapping[int, Array],
    ground: Ground,
    view: str,
    far: bool,
    size: tuple[int, int],
    focal_35mm: float | None,
    placement: Placement,
) -> _Fit | None:
    """The camera by least squares, the points' spread as the camera itself sees it."""
    world = _points(found, ground, view, far)
    image = np.vstack([np.asarray(p, dtype=float) for p in found.values()])
    sd = np.full(len(image), CODE_SD_PX * max(size) / 1600.0)
    plain = Seen.of(world, image, 4.0 * sd, size, focal_35mm)
    best: CameraEstimate | None = None
    for focal in [focal_35mm] if focal_35mm else [20.0, 26.0, 35.0]:
        for start in planar_cameras(plain, focal_in_px(focal, *size)):
            fit = refine(start, plain)
            if fit is None or fit.camera.height_cm < 3.0 or fit.camera.rotation[1, 2] > 0.5:
                continue
            if best is None or fit.chi2 < best.chi2:
                best = fit
    if best is None or abs(best.camera.yaw_deg) > WIDEST_YAW_DEG:
        return None
    for _ in range(2):
        seen = replace(
            Seen.of(world, image, sd, size, focal_35mm),
            mixing=_mixing(best.camera, world, sd, placement),
        )
        closer = refine(best.camera, seen)
        if closer is None:
            return None
        best = closer
    return _Fit(best, far, _scale(best.camera, found, ground, view, far), best.chi2)


def _mixing(camera: Camera, world: Array, sd: Array, placement: Placement) -> Array:
    """Turns residuals in clicks' spreads into independent ones, (2n, 2n).

    The four points of a card move together as the card is shifted (two ways) and turned, and
    as its rims look moved inwards because bright paper bleeds into black print.
    """
    shift, turn = placement.shift_cm, math.radians(placement.turn_deg)
    steps = np.array([shift, shift, turn, BLEED * float(sd[0])])
    out = np.zeros((2 * len(world), 2 * len(world)))
    here = camera.project(world)
    for at in range(0, len(world), 4):
        card, own = world[at : at + 4], here[at : at + 4]
        arm = card - card.mean(axis=0)
        turned = np.stack([-arm[:, 1], arm[:, 0], np.zeros(4)], axis=1)
        ways = [np.array([1.0, 0, 0]) + 0 * arm, np.array([0, 1.0, 0]) + 0 * arm, turned]
        slope = np.stack(
            [
                *((camera.project(card + 0.01 * w) - own).ravel() / 0.01 for w in ways),
                _inset(own).ravel(),
            ],
            axis=1,
        )
        scaled = slope * steps / np.repeat(sd[at : at + 4], 2)[:, None]
        cover = scaled @ scaled.T + np.eye(8)
        rows = slice(2 * at, 2 * at + 8)
        out[rows, rows] = np.linalg.inv(np.linalg.cholesky(cover))
    return out


def _inset(quad: Array) -> Array:
    """How the corners (4, 2) of a quadrangle move as its rims move one px inwards, (4, 2)."""
    way = np.roll(quad, -1, axis=0) - quad
    normal = np.stack([-way[:, 1], way[:, 0]], axis=1)
    normal /= np.linalg.norm(normal, axis=1, keepdims=True) + 1e-12
    inward = np.sign(np.sum((quad.mean(axis=0) - quad) * normal, axis=1))
    normal *= inward[:, None]
    pairs = np.stack([np.roll(normal, 1, axis=0), normal], axis=1)
    steep = np.abs(np.linalg.det(pairs)) > 0.02
    moved = np.zeros((4, 2))
    moved[steep] = np.linalg.solve(pairs[steep], np.ones((int(steep.sum()), 2, 1)))[..., 0]
    return moved


def _on_floor(camera: Camera, points: Array, height: float) -> Array:
    """Where pixels (n, 2) lie on a level plane, (n, 2) cm."""
    ray = np.column_stack([(points - camera.centre) / camera.focal_px, np.ones(len(points))])
    ray = ray @ camera.rotation
    eye = camera.position
    along = (height - eye[2]) / ray[:, 2]
    return np.asarray(eye[:2] + along[:, None] * ray[:, :2])


def _scale(
    camera: Camera, found: Mapping[int, Array], ground: Ground, view: str, far: bool
) -> float:
    """How large the codes are beside what they should be, by where they lie on the floor."""
    sizes = []
    for points in found.values():
        flat = _on_floor(camera, np.asarray(points, dtype=float), -ground.below_cm)
        sides = np.linalg.norm(flat - np.roll(flat, 1, axis=0), axis=1)
        sizes.append(float(sides.mean()) / CODE_CM)
    return float(np.median(sizes))


def _told(
    fit: _Fit,
    used: Mapping[int, Array],
    ground: Ground,
    view: str,
    size: tuple[int, int],
    said: tuple[str, ...] = (),
) -> Sighting:
    """The mat's corners with the camera's own spread, and what a coach should know."""
    camera = fit.estimate.camera
    world = mat_points(ground.length_cm, ground.width_cm, view)
    at = camera.project(world)
    steps = square_root(fit.estimate.covariance).T
    rotations, shifts, focals = moved_cameras(camera, steps, list(range(7)))
    moved = np.stack(
        [
            Camera(r, t, f, camera.centre).project(world)
            for r, t, f in zip(rotations, shifts, focals, strict=True)
        ]
    )
    spread = np.sqrt(np.mean(np.sum((moved - at) ** 2, axis=0), axis=1))
    if abs(fit.scale - 1.0) > SCALE_OFF:
        said += (
            f"The cards look {100 * abs(fit.scale - 1):.0f} % too "
            f"{'small' if fit.scale < 1 else 'large'} for a mat of {ground.length_cm:g} by "
            f"{ground.width_cm:g} cm: printed “to fit the page” (print them at 100 %), or the mat "
            "is of another size.",
        )
    return Sighting(
        tuple(sorted(used)),
        {n: (float(p[0]), float(p[1])) for n, p in zip(CORNERS, at, strict=True)},
        {n: float(s) for n, s in zip(CORNERS, spread, strict=True)},
        fit.estimate,
        said,
        from_far_side=fit.far,
    )


def _how_wrong(
    card: int, found: Mapping[int, Array], fit: _Fit, ground: Ground, view: str
) -> tuple[str, ...]:
    """What is the matter with the card that the others contradict."""
    flat = _on_floor(fit.estimate.camera, np.asarray(found[card], dtype=float), -ground.below_cm)
    should = in_view(code_corners(ground, card), view, from_far_side=fit.far)
    up, right = flat[0] - flat[3], flat[1] - flat[0]
    wanted_up = should[0] - should[3]
    turned = math.degrees(
        math.atan2(wanted_up[0] * up[1] - wanted_up[1] * up[0], float(wanted_up @ up))
    )
    if abs(right[0] * up[1] - right[1] * up[0]) < 1.0:
        return (f"Card {card} is left out: it does not lie flat on the floor.",)
    if abs(turned) > 20:
        return (f"Card {card} is left out: it lies turned by {abs(turned):.0f}°.",)
    off = float(np.linalg.norm(flat.mean(axis=0) - should.mean(axis=0)))
    return (
        f"Card {card} is left out: it lies {off:.0f} cm from its place. Push its edge against the "
        "mat's end, flush with the corner.",
    )


def _contradiction(
    found: Mapping[int, Array],
    ground: Ground,
    view: str,
    size: tuple[int, int],
    focal_35mm: float | None,
) -> str:
    """Why cards make no camera: exchanged, the mat seen from elsewhere, or of another size."""
    cards = sorted(found)
    loose = Placement(3.0, 5.0)
    for order in permutations(cards):
        if list(order) == cards:
            continue
        swapped = {new: found[old] for new, old in zip(cards, order, strict=True)}
        fit = _best(swapped, ground, view, size, focal_35mm, Placement())
        if fit is not None and fit.chi2 <= _limit(len(found)):
            moved = tuple(c for c, o in zip(cards, order, strict=True) if c != o)
            if moved in ((1, 3), (2, 4)):
                return "Cards 1 and 3, or 2 and 4, are exchanged: lay each in its place."
            return f"Cards {' and '.join(map(str, moved))} are exchanged: lay each in its place."
    other = "front" if view == "side" else "side"
    fit = _best(found, ground, other, size, focal_35mm, Placement())
    if fit is not None and fit.chi2 <= _limit(len(found)):
        edge = "a short end" if view == "side" else "a long side"
        wanted = "a long side" if view == "side" else "a short end"
        return f"The camera stands at {edge} of the mat; this pose is photographed from {wanted}."
    fit = _best(found, ground, view, size, focal_35mm, loose)
    if fit is not None and fit.chi2 <= 2 * _limit(len(found)):
        return (
            f"The cards do not lie around a mat of {ground.length_cm:g} by {ground.width_cm:g} cm: "
            "lay them against its ends again, or say how large it is."
        )
    return (
        "The cards contradict each other: one may be partly covered or bent. Lay them flat in "
        "their places and take it again, or mark the mat's corners by hand."
    )


def _too_few(found: Mapping[int, Array]) -> str:
    if not found:
        return "No corner card was found."
    return f"Only card {next(iter(found))} was found: two or more are needed."
