"""How marks that a network saw are missed, by pose and mark, and which of them want a look.

Learnt on pictures of bodies (``python -m bench.bodies.network``): where a mark usually lies beside
its place on the body behind the joints, how widely, and how likely it is off by more than a tenth
of the thigh, the further its joint lies from the body and the less the looks at it agree.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

#: What a joint's distance from the body and the looks' disagreement do to the odds of being wrong:
#: logistic, of log(1 + cm).
ODDS_OFF, ODDS_APART = 0.615, 1.218
#: Log odds of a mark nothing was learnt of: it always wants a look.
UNLEARNT = 3.0
#: A mark wants a look whose chance of being wrong is more than this. Of the pictures it was learnt
#: on, each tenth left out in turn, 98 in 100 of those wrong are among them.
DOUBTFUL = 0.07


@dataclass(frozen=True)
class Habit:
    """How a mark of a pose is usually missed, cm, how far from there it then lies, and its log
    odds of being wrong where its joint lies on the body and every look agrees.

    ``ahead``: the way the person faces, in a front view outwards; ``down`` the picture.
    """

    ahead: float
    down: float
    sd: float
    odds: float = UNLEARNT

    def doubt(self, off_cm: float, apart_cm: float) -> float:
        """The chance that the mark is off by more than a tenth of the thigh (see ODDS_OFF)."""
        odds = self.odds + ODDS_OFF * math.log1p(off_cm) + ODDS_APART * math.log1p(apart_cm)
        return 1.0 / (1.0 + math.exp(-odds))


Habits = Mapping[str, Mapping[str, Habit]]


def read_habits(text: str) -> dict[str, dict[str, Habit]]:
    """Habits by pose and mark from lines of ``pose,mark,ahead,down,sd,odds`` under a heading."""
    found: dict[str, dict[str, Habit]] = {}
    for line in text.split("\n")[1:]:
        if line.strip():
            pose, mark, *numbers = line.split(",")
            found.setdefault(pose, {})[mark] = Habit(*map(float, numbers))
    return found
