"""What may be photographed of a person: asked by every page before, and of what comes in."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from dachi.core.assessing import permission
from dachi.core.assessing.permission import Screening
from dachi.core.catalogue.cautions import SIDES, Caution
from dachi.core.catalogue.poses import Pose
from dachi.data import catalogue, demands_of_pose
from dachi.store import practitioners, preparation
from dachi.studio.practice import cautions
from dachi.studio.work import Work


@dataclass(frozen=True)
class Allowed:
    """The answers and cautions that decide about a photograph, for one person and day."""

    screening: Screening | None
    found: tuple[Caution, ...]
    age_known: bool = True

    def refused(self, pose: Pose, mode: str, side: str = "") -> str | None:
        """Why a pose may not be photographed in a mode now, on a side where one is said, as a
        sentence; None where it may.
        """
        unasked = permission.passive_refused(self.screening) if mode == "passive" else None
        return unasked or self._shut(pose, mode, self.found, side)

    def closed(self, pose: Pose, mode: str, side: str = "") -> bool:
        """Whether answers keep a shot off the sheet; what was not asked yet does not."""
        known = tuple(c for c in self.found if self.age_known or c.source != "age")
        return self._shut(pose, mode, known, side) is not None

    def no_mode(self, pose: Pose) -> str | None:
        """Why a pose may not be photographed at all; None where some mode of it may."""
        said = [self.refused(pose, mode) for mode in pose.modes]
        return said[0] if all(said) else None

    def shut_poses(self, among: Iterable[str] | None = None) -> dict[str, list[Pose]]:
        """Poses with no mode that may be photographed, by the sentence that says why."""
        found: dict[str, list[Pose]] = {}
        for pose in catalogue().poses:
            if (among is None or pose.id in among) and (why := self.no_mode(pose)):
                found.setdefault(why, []).append(pose)
        return found

    @staticmethod
    def _shut(pose: Pose, mode: str, found: tuple[Caution, ...], side: str) -> str | None:
        """Of a pose with two sides and none said: only what is shut on both."""
        asked, passive = demands_of_pose(pose.id), mode == "passive"
        sides = (side,) if side or pose.sides != "each" else SIDES
        said = [permission.shot_refused(asked, found, passive=passive, side=s) for s in sides]
        return said[0] if all(said) else None


def allowed(work: Work, pid: int) -> Allowed:
    """What decides about photographs of a person today."""
    screening = preparation.screening(work.db, work.coach, pid)
    who = practitioners.get(work.db, work.coach, pid)
    age_known = who is not None and who.birth_year is not None
    return Allowed(screening, cautions.of_shots(work, pid), age_known)
