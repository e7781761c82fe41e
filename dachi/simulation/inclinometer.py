"""The simulated inclinometer: a second opinion on an angle, with an error of its own."""

from __future__ import annotations

import random

#: How a careful hand with a digital inclinometer on the limb repeats itself, degrees.
SD_DEG = 1.5


def reading(true_deg: float, seed: int) -> float:
    """Return what the instrument shows for a true angle: whole tenths, the same for a seed."""
    return round(random.Random(seed).gauss(true_deg, SD_DEG), 1)
