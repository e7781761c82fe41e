"""How much wider than their errors intervals are: the factors a pose's ``[held]`` carries.

``python -m bench.bodies.widths [fit|report] [SHOTS]`` takes, for each pose, headlines of bodies
marked where the points lie and with the trochanter a centimetre before and behind, and finds the
factor at which the interval holds in the middle of 92 to 98 % of them all, and in 93 % of the worst
of the three. Marks 6 mm further off on the skin are told beside, not fitted: clicks of 3 px are as
much already. Fitted on the ``fit`` half; on the ``report`` half it only tells what is left.
"""

from __future__ import annotations

import sys
from dataclasses import replace

import numpy as np

from bench.bodies.mesh import Array
from bench.bodies.poses import MAKERS
from bench.bodies.run import people, read
from bench.bodies.shots import CLICKS, Clicking, shoot
from bench.bodies.truth import truth

WANTED, AT_WORST = 95.5, 93.0
#: Shapes of a half.
SHAPES = 80


def factor(*groups: Array) -> float:
    """What 1.96 standard deviations must be multiplied by to hold as wanted, in all together and
    in the worst group.
    """
    together = np.percentile(abs(np.concatenate(groups)), WANTED)
    return float(max(together, *(np.percentile(abs(g), AT_WORST) for g in groups)) / 1.96)


def main(half: str = "fit", shots: int = 200) -> None:
    bodies = people(half, SHAPES)
    print(f"{'':20} {'width':>6} {'holds: as they lie, moved, moved, off':>40} {'change':>14}")
    for pose_id in MAKERS:
        rng = np.random.default_rng([9, *pose_id.encode()])
        ways = (
            CLICKS, replace(CLICKS, trochanter_cm=-1.0), replace(CLICKS, trochanter_cm=1.0),
            replace(CLICKS, skin_sd_cm=0.6),
        )  # fmt: skip
        scores: dict[Clicking, list[float]] = {way: [] for way in ways}
        apart = []
        for clicking, found in scores.items():
            for i in range(shots):
                pair = []
                for _ in range(2):
                    shot = shoot(pose_id, bodies[i % len(bodies)], rng, clicking)
                    if (result := read(shot)) is None:
                        continue
                    for n, (name, value) in enumerate(truth(shot).items()):
                        r = result.reading(name)
                        found.append((r.value - value) / r.sd)
                        if n == 0:
                            pair.append((r.value - value, r.sd_change or r.sd))
                if len(pair) == 2:
                    (e1, s1), (e2, s2) = pair
                    apart.append((e2 - e1) / np.hypot(s1, s2))
        *fitted, _ = (np.array(f) for f in scores.values())
        holds = [100 * np.mean(abs(np.array(f)) <= 1.96) for f in scores.values()]
        change = np.array(apart)
        print(
            f"{pose_id:20} {factor(*fitted):6.2f} {'  '.join(f'{h:5.1f}%' for h in holds):>40}"
            f" {factor(change):6.2f} {100 * np.mean(abs(change) <= 1.96):5.1f}%",
            flush=True,
        )


if __name__ == "__main__":
    main(
        sys.argv[1] if len(sys.argv) > 1 else "fit", int(sys.argv[2]) if len(sys.argv) > 2 else 200
    )
