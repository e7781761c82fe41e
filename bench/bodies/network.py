"""How the landmark network sees bodies: ``python -m bench.bodies.network [FOLDER]``.

Fits the tables of ``dachi.core.measuring.fuse`` on pictures of bodies that are reported on nowhere
(``python -m bench.bodies.pictures var/fit 150 1000``): where it sees each kind of joint in the
frame of its bone, how widely, and how sure a mark on the body behind the joints is.
"""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Mapping
from pathlib import Path

import numpy as np
from scipy.optimize import minimize

from bench.bodies.mesh import Array
from bench.bodies.sights import Sight, sights
from dachi.core.measuring import fuse, skeleton
from dachi.core.measuring.fuse import CENTRES, JOINTS, Hypothesis, Saw, likeliest
from dachi.core.measuring.looks import CAMERA
from dachi.core.measuring.skeleton import Points, joint_point

#: A ridge on offsets, as so many joints that lie at nothing.
RIDGE = 4.0


def body(sight: Sight, tables: Mapping[str, fuse.Sight]) -> Hypothesis | None:
    """The body behind the joints of a picture, through its true camera."""
    if sight.seen is None:
        return None
    saw = Saw(sight.image, sight.seen.joints, sight.seen.apart, sight.estimate(), True, tables)
    return likeliest(sight.pose, sight.side, sight.pose.default_variant(), saw, {})


def offsets(found: list[tuple[Sight, Hypothesis]]) -> dict[str, tuple[Array, float]]:
    """Offset (3,) and spread of each kind of joint, cm, in the frames of the bodies found.

    Robust least squares: Student's t by reweighting.
    """
    ways, gaps = defaultdict(list), defaultdict(list)
    points = Points([joint_point(n) for n in CENTRES])
    for sight, one in found:
        x, cam = one.body.x[None], one.body.state[:CAMERA]
        posed = skeleton.pose(x, one.prior.root)
        rotation, _, focal = one.look.view(cam)
        _, depth = one.seen(points)
        for i, name in enumerate(CENTRES):
            side, part = name.split(".")
            frame = posed.frames[0, points.segment[i]].copy()
            frame[:, 1] *= -1.0 if side == "right" else 1.0
            ways[part].append((rotation @ frame)[:2])
            seen = one.px[JOINTS.index(name)]
            gaps[part].append((seen - sight.told["joints"][name]) * depth[i] / focal)
    told = {}
    for part in ways:
        a, b = np.vstack(ways[part]), np.concatenate(gaps[part])
        w, offset, spread = np.ones(len(b)), np.zeros(3), 1.0
        for _ in range(30):
            offset = np.linalg.solve(a.T @ (a * w[:, None]) + RIDGE * np.eye(3), a.T @ (w * b))
            far = np.hypot(*(b - a @ offset).reshape(-1, 2).T)
            # Of a Rayleigh distribution the median is 1.18 standard deviations.
            spread = float(np.median(far)) / 1.18
            w = np.repeat((fuse.STUDENT + 2) / (fuse.STUDENT + (far / spread) ** 2), 2)
        told[part] = offset, spread
    return told


def spreads(found: list[tuple[Sight, Hypothesis]]) -> tuple[dict[str, float], float, float]:
    """Each kind of mark's own spread, cm, and the shares of what is off and apart (likeliest)."""
    rows = []
    for sight, one in found:
        told = one.told(sight.pose, sight.pose.default_variant())
        for mark in sight.pose.marks:
            if mark.id not in told.marks or mark.id not in sight.told["marks"]:
                continue
            names = one.joints_of(mark)
            at = [JOINTS.index(n) for n in names]
            gap = np.subtract(told.marks[mark.id], sight.told["marks"][mark.id])
            cm = told.sds_cm[mark.id] / told.sds[mark.id]
            rows.append((names[0].partition(".")[2] if len(names) == 1 else "",
                         float(gap @ gap) * cm**2, one.off_cm[at].max(),
                         (one.apart_px * one.cm_per_px)[at].max()))  # fmt: skip
    kinds = sorted({r[0] for r in rows})
    kind = np.array([kinds.index(r[0]) for r in rows])
    d2, off, apart = (np.array([r[i] for r in rows]) for i in (1, 2, 3))

    def unlikely(p: Array) -> float:
        own, a, b = np.exp(p[:-2]), np.exp(p[-2]), np.exp(p[-1])
        var = own[kind] ** 2 + (a * off) ** 2 + (b * apart) ** 2
        nu = fuse.STUDENT
        return float((np.log(var) + (nu + 2) / 2 * np.log1p(d2 / var / nu)).sum())

    best = minimize(unlikely, np.log([2.0] * len(kinds) + [0.3, 0.3]), method="Nelder-Mead",
                    options={"maxiter": 20000, "maxfev": 20000, "xatol": 1e-3})  # fmt: skip
    values = np.exp(best.x).tolist()
    return dict(zip(kinds, values[:-2], strict=True)), values[-2], values[-1]


def main(argv: list[str] | None = None) -> None:
    every = [s for s in sights(Path((argv or ["var/fit"])[0])) if s.seen is not None]
    tables = dict(fuse.SIGHTS)
    for turn in range(3):
        found = [(s, h) for s in every if (h := body(s, tables)) is not None]
        for part, (offset, spread) in offsets(found).items():
            x, y, z = offset.tolist()
            tables[part] = fuse.Sight((x, y, z), spread)
            print(f"{turn} {part:9} {x:6.2f} {y:6.2f} {z:6.2f}  sd {spread:.2f}")
    found = [(s, h) for s in every if (h := body(s, tables)) is not None]
    print(len(found), "pictures;", *spreads(found))


if __name__ == "__main__":
    main(sys.argv[1:])
