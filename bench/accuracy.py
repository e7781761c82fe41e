"""How far readings lie from the articulated figure's true angles, on scenes nobody tuned to."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from dachi.core.body.figure import Body
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.calibration import CameraEstimate, Mat
from dachi.core.measuring.measure import measure, measure_with
from dachi.core.measuring.scene import Image, Scene, SceneError
from dachi.data import catalogue
from dachi.interchange.scenes import scene_to_json
from dachi.simulation.camera import Shot, Stage, set_up, truths

SCENES = 600
WIDTH, HEIGHT = 1600, 1200


@dataclass(frozen=True)
class Clicks:
    """Spread of marks and corners, px at 1600 px, and of limbs out of their plane, degrees."""

    mark_sd: float
    corner_sd: float
    limb_sd_deg: float


def on_floor(pose: Pose) -> bool:
    """Whether the headline is taken on the floor plane or looks into depth."""
    return pose.plane == "floor" or pose.headline.formula.deep


GROUPS: dict[str, Callable[[Pose], bool]] = {
    "side": lambda p: p.view == "side",
    "front": lambda p: p.view == "front" and not on_floor(p),
    "floor": on_floor,
}
SINGLE = ("supine-leg-raise", "half-split", "front-split")


def random_shot(
    pose: Pose, rng: np.random.Generator, limb_sd_deg: float, as_asked: bool = False
) -> tuple[Shot, Stage]:
    """A shot that shows every mark and corner: the stand is moved back until it does.

    ``as_asked`` puts the camera within 15 cm of the height the pose asks for.
    """
    focal = float(rng.uniform(24, 50))
    asked = pose.camera.height_cm
    height = float(asked + rng.uniform(-15, 15) if as_asked else rng.uniform(30, 140))
    along, across = float(rng.normal(0, 8.0)), float(rng.normal(0, 2.0))
    shot = Shot(
        shift_cm=(along, across) if pose.view == "side" else (across, along),
        side="both" if pose.sides == "both" else str(rng.choice(["left", "right"])),
        value=float(rng.uniform(pose.figure.low, pose.figure.high)),
        yaw_deg=float(rng.uniform(-20, 20)),
        roll_deg=float(rng.normal(0, 1.0)),
        height_cm=height,
        focal_35mm=focal,
        scatter_deg=limb_sd_deg,
        body=Body(float(rng.uniform(155, 185))),
        width=WIDTH,
        height=HEIGHT,
        seed=int(rng.integers(2**31)),
    )
    distance = pose.camera.distance_cm * focal / 26.0
    while True:
        shot = replace(shot, distance_cm=distance)
        stage = set_up(pose, shot)
        seen = np.array([*stage.marks_px.values(), *stage.corners_px.values()])
        if (seen > 15).all() and (seen < np.array([WIDTH - 15, HEIGHT - 15])).all():
            return shot, stage
        distance *= 1.06


def click(pose: Pose, shot: Shot, stage: Stage, clicks: Clicks, rng: np.random.Generator) -> Scene:
    """The scene as marked by a hand with the given spread; EXIF tells whole millimetres."""
    marks = {
        k: (stage.marks_px[k][0] + rng.normal(0, clicks.mark_sd),
            stage.marks_px[k][1] + rng.normal(0, clicks.mark_sd))
        for k in pose.required
    }  # fmt: skip
    corners = {
        k: (x + rng.normal(0, clicks.corner_sd), y + rng.normal(0, clicks.corner_sd))
        for k, (x, y) in stage.corners_px.items()
    }
    segments = {k: v + rng.normal(0, 0.8) for k, v in shot.body.segments_cm.items()}
    return Scene(
        pose=pose.id,
        side=shot.side,
        mode=next(iter(pose.modes)),
        variant=pose.default_variant(),
        image=Image(WIDTH, HEIGHT, float(round(shot.focal_35mm))),
        marks=marks,
        mark_sd_px=clicks.mark_sd,
        mat=Mat(*shot.mat_cm, corners, corner_sd_px=clicks.corner_sd),
        segments_cm=segments,
    )


def poses_of(group: str) -> list[Pose]:
    if group in GROUPS:
        return [p for p in catalogue().poses if GROUPS[group](p)]
    return [catalogue().pose(group)]


@dataclass
class Errors:
    """Errors of one group, degrees (centimetres for knee heights), by way of reading."""

    mat: list[float]
    flat: list[float]
    known: list[float]
    inside: list[bool]
    sds: list[float]
    seconds: list[float]
    refused: int = 0


def run(group: str, clicks: Clicks, count: int, trials: int = 1, as_asked: bool = False) -> Errors:
    rng = np.random.default_rng([20261124, trials, *group.encode()])
    found = Errors([], [], [], [], [], [])
    poses = poses_of(group)
    for _ in range(count):
        pose = poses[int(rng.integers(len(poses)))]
        read: list[tuple[float, ...]] = []
        shot, _ = random_shot(pose, rng, clicks.limb_sd_deg, as_asked)
        for _ in range(trials):
            shot = replace(shot, seed=int(rng.integers(2**31)))
            stage = set_up(pose, shot)
            scene = click(pose, shot, stage, clicks, rng)
            try:
                start = time.perf_counter()
                result = measure(scene, catalogue())
                found.seconds.append(time.perf_counter() - start)
            except SceneError:
                found.refused += 1
                continue
            reading = result.headline
            truth = truths(pose, shot, stage)[reading.id]
            exact = CameraEstimate(stage.camera, np.zeros((7, 7)), "mat")
            best = measure_with(scene, pose, exact).headline.value
            try:
                flat = measure(replace(scene, mat=None), catalogue()).headline.value - truth
            except SceneError:
                flat = float("nan")
            read.append((reading.value - truth, flat, best - truth, reading.sd))
        if len(read) == trials:
            e, flat, best, sd = np.mean(np.array(read), axis=0)
            found.mat.append(e)
            found.flat.append(flat)
            found.known.append(best)
            found.sds.append(sd)
            found.inside.append(bool(abs(read[0][0]) <= 1.96 * read[0][3]))
    return found


def _p95(errors: list[float]) -> float:
    return float(np.nanpercentile(np.abs(errors), 95)) if np.isfinite(errors).any() else np.nan


def _mean(errors: list[float]) -> float:
    return float(np.nanmean(np.abs(errors))) if np.isfinite(errors).any() else np.nan


def table(title: str, clicks: Clicks, count: int, trials: int = 1, as_asked: bool = False) -> None:
    print(f"\n{title}")
    head = f"{'group':18} {'mat mean':>8} {'p95':>6} {'bias':>6} | {'flat mean':>9} {'p95':>6}"
    head += f" {'bias':>6} | {'known mean':>10} {'p95':>6} | {'over limit':>10} {'p95':>6} |"
    print(f"{head} {'covered':>7} {'refused':>7}")
    for group in (*GROUPS, *SINGLE):
        e = run(group, clicks, count, trials, as_asked)
        over = 100 * (_mean(e.mat) / _mean(e.known) - 1)
        over95 = 100 * (_p95(e.mat) / _p95(e.known) - 1)
        print(
            f"{group:18} {_mean(e.mat):8.2f} {_p95(e.mat):6.2f} {np.mean(e.mat):+6.2f} |"
            f" {_mean(e.flat):9.2f} {_p95(e.flat):6.2f} {np.nanmean(e.flat):+6.2f} |"
            f" {_mean(e.known):10.2f} {_p95(e.known):6.2f} | {over:+9.0f}% {over95:+5.0f}% |"
            f" {100 * np.mean(e.inside):6.1f}% {e.refused:7d}",
            flush=True,
        )


def pose_table(clicks: Clicks, count: int) -> None:
    print("\nevery pose by itself, as clicked by hand with limb scatter")
    print(f"{'pose':26} {'mat mean':>8} {'known':>6} {'flat':>6} {'covered':>8} {'stated sd':>9}")
    for pose in catalogue().poses:
        e = run(pose.id, clicks, count)
        print(
            f"{pose.id:26} {_mean(e.mat):8.2f} {_mean(e.known):6.2f} {_mean(e.flat):6.2f}"
            f" {100 * np.mean(e.inside):7.1f}% {np.median(e.sds):9.2f}",
            flush=True,
        )


def speed() -> None:
    e = run("side", Clicks(3, 2, 4), 400)
    p50, p95 = np.percentile(1000 * np.array(e.seconds), [50, 95])
    print(f"\nmeasure with uncertainty: median {p50:.2f} ms, p95 {p95:.2f} ms (aim: median 3 ms)")


def command_line(count: int = 1000) -> None:
    """Seconds for a thousand scenes through ``python -m dachi measure``, start-up included."""
    rng = np.random.default_rng(7)
    poses = catalogue().poses
    lines = []
    for i in range(count):
        pose = poses[i % len(poses)]
        shot, stage = random_shot(pose, rng, 4)
        scene = click(pose, shot, stage, Clicks(3, 2, 4), rng)
        lines.append(json.dumps(scene_to_json(replace(scene, id=str(i)))))
    start = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-m", "dachi", "measure", "-"],
        input="\n".join(lines), capture_output=True, text=True, check=False,
    )  # fmt: skip
    took = time.perf_counter() - start
    bad = sum("error" in json.loads(line) for line in done.stdout.splitlines())
    print(
        f"python -m dachi measure: {count} scenes of every pose in {took:.2f} s (aim: 6 s), "
        f"{bad} refused in words, exit status {done.returncode}"
    )


def main() -> None:
    count = int(sys.argv[2]) if len(sys.argv) > 2 and sys.argv[2].isdigit() else SCENES
    table(
        "clicked by hand (marks 3 px, corners 2 px), limbs 4° out of plane", Clicks(3, 2, 4), count
    )
    table("the same, limbs in their plane", Clicks(3, 2, 0), count)
    table(
        "clicked by hand, limbs 4° out of plane, camera about as high as the pose asks",
        Clicks(3, 2, 4), count, as_asked=True,
    )  # fmt: skip
    table("stickers (marks 1 px, corners 1 px), limbs 4° out of plane", Clicks(1, 1, 4), count)
    table("stickers, limbs in their plane", Clicks(1, 1, 0), count)
    table("stickers, mean of three trials, limbs 4° out of plane", Clicks(1, 1, 4), count, 3)
    table("stickers, mean of three trials, limbs in their plane", Clicks(1, 1, 0), count, 3)
    pose_table(Clicks(3, 2, 4), count // 3)
    speed()
    command_line()


if __name__ == "__main__":
    main()
