"""What is kept as a kind and said in words only where somebody reads it.

Each word here is an enumeration: what it means hangs on its member, never on a sentence. The
sentences stand beside them, in one place, so that another wording changes nothing that is kept.
"""

from __future__ import annotations

from enum import StrEnum


class Status(StrEnum):
    """What a trial's checks say of it, the worst last; ``UNMARKED`` before there are any."""

    UNMARKED = "unmarked"
    OK = "ok"
    WATCH = "watch"
    RETAKE = "retake"

    @property
    def rank(self) -> int:
        """How bad it is: 0 for nothing at all."""
        return tuple(Status).index(self)

    def counts(self, *, overruled: bool) -> bool:
        """Whether readings of a trial with this status enter a series."""
        return self in (Status.OK, Status.WATCH) or (self is Status.RETAKE and overruled)

    def asks_again(self, *, overruled: bool) -> bool:
        """Whether a check asks for another photograph and nobody has overruled it."""
        return self is Status.RETAKE and not overruled


class PainKind(StrEnum):
    """How it hurts, as a practitioner taps it."""

    SHARP = "sharp"
    KNEE = "knee"
    PINCH = "pinch"
    NUMB = "numb"
    DIZZY = "dizzy"
    DULL = "dull"
    STRETCH = "stretch"
    CRAMP = "cramp"
    ASLEEP = "asleep"


class Place(StrEnum):
    """Where it hurts, as somebody points at it; its words are ``SAID[place]``."""

    HIP_FRONT = "hip_front"
    HIP_SIDE = "hip_side"
    HIP_BACK = "hip_back"
    LEFT_HIP = "left_hip"
    RIGHT_HIP = "right_hip"
    GROIN = "groin"
    SIT_BONE = "sit_bone"
    THIGH_BACK = "thigh_back"
    LEFT_THIGH_BACK = "left_thigh_back"
    RIGHT_THIGH_BACK = "right_thigh_back"
    THIGH_FRONT = "thigh_front"
    LEFT_KNEE = "left_knee"
    LEFT_KNEE_FRONT = "left_knee_front"
    LEFT_KNEE_INNER = "left_knee_inner"
    LEFT_KNEE_OUTER = "left_knee_outer"
    LEFT_KNEE_BACK = "left_knee_back"
    RIGHT_KNEE = "right_knee"
    RIGHT_KNEE_FRONT = "right_knee_front"
    RIGHT_KNEE_INNER = "right_knee_inner"
    RIGHT_KNEE_OUTER = "right_knee_outer"
    RIGHT_KNEE_BACK = "right_knee_back"
    ANKLE_FOOT = "ankle_foot"
    LEFT_HIP_FRONT = "left_hip_front"
    LEFT_HIP_SIDE = "left_hip_side"
    LEFT_HIP_BACK = "left_hip_back"
    LEFT_GROIN = "left_groin"
    LEFT_SIT_BONE = "left_sit_bone"
    LEFT_THIGH_FRONT = "left_thigh_front"
    LEFT_ANKLE_FOOT = "left_ankle_foot"
    RIGHT_HIP_FRONT = "right_hip_front"
    RIGHT_HIP_SIDE = "right_hip_side"
    RIGHT_HIP_BACK = "right_hip_back"
    RIGHT_GROIN = "right_groin"
    RIGHT_SIT_BONE = "right_sit_bone"
    RIGHT_THIGH_FRONT = "right_thigh_front"
    RIGHT_ANKLE_FOOT = "right_ankle_foot"
    LOW_BACK = "low_back"
    WRIST = "wrist"
    SHOULDER = "shoulder"
    NECK = "neck"
    HEAD = "head"
    ELSEWHERE = "elsewhere"

    @property
    def side(self) -> str:
        """``left`` or ``right``; empty where the place is of neither, or nobody said which."""
        return next((s for s in ("left", "right") if self.value.startswith(f"{s}_")), "")

    @property
    def sideless(self) -> Place:
        """The place whichever side it is on, where that is a place of its own."""
        rest = self.value.removeprefix(f"{self.side}_")
        return Place(rest) if rest in set(Place) else self

    @property
    def sided(self) -> tuple[Place, ...]:
        """The left and the right one of a place that has both; nothing where it has no sides."""
        both = (f"left_{self.value}", f"right_{self.value}")
        return tuple(Place(b) for b in both) if set(both) <= set(Place) else ()

    @property
    def said(self) -> str:
        """The place in words, to be read."""
        return SAID[self]

    @property
    def whole(self) -> Place:
        """The place without the part of it that was pointed at: a part of a knee is the knee."""
        side, _, rest = self.value.partition("_")
        return Place(f"{side}_knee") if rest.startswith("knee") else self

    @property
    def region(self) -> str:
        """The part of the body it belongs to, of either side: ``knee``, ``hip``, ``low_back``."""
        parts = self.value.split("_")
        return next((r for r in ("knee", "hip", "thigh") if r in parts), self.value)

    @property
    def is_knee(self) -> bool:
        """Whether it is a knee or a part of one."""
        return self.region == "knee"


#: Parts of a knee: it decides what is left out.
KNEE_PARTS = {
    "front": "front, the kneecap", "inner": "inner side", "outer": "outer side", "back": "behind",
}  # fmt: skip
SAID: dict[Place, str] = {
    Place.HIP_FRONT: "front of the hip",
    Place.HIP_SIDE: "side of the hip",
    Place.HIP_BACK: "back of the hip",
    Place.LEFT_HIP: "left hip",
    Place.RIGHT_HIP: "right hip",
    Place.GROIN: "groin",
    Place.SIT_BONE: "sit bone",
    Place.THIGH_BACK: "back of the thigh",
    Place.LEFT_THIGH_BACK: "back of the left thigh",
    Place.RIGHT_THIGH_BACK: "back of the right thigh",
    Place.THIGH_FRONT: "front of the thigh",
    Place.LEFT_KNEE: "left knee",
    Place.RIGHT_KNEE: "right knee",
    **{
        Place(f"{side}_knee_{part}"): f"{side} knee, {words}"
        for side in ("left", "right")
        for part, words in KNEE_PARTS.items()
    },
    Place.ANKLE_FOOT: "ankle or foot",
    **{
        Place(f"{side}_{place}"): words.format(side)
        for side in ("left", "right")
        for place, words in {
            "hip_front": "front of the {} hip",
            "hip_side": "side of the {} hip",
            "hip_back": "back of the {} hip",
            "groin": "{} groin",
            "sit_bone": "{} sit bone",
            "thigh_front": "front of the {} thigh",
            "ankle_foot": "{} ankle or foot",
        }.items()
    },
    Place.LOW_BACK: "low back",
    Place.WRIST: "wrist",
    Place.SHOULDER: "shoulder",
    Place.NECK: "neck",
    Place.HEAD: "head",
    Place.ELSEWHERE: "somewhere else",
}
#: Where the player and the log ask, and where a visit asks: each in the order it is shown.
IN_PRACTICE = (
    Place.LEFT_KNEE, Place.RIGHT_KNEE, Place.HIP_FRONT, Place.HIP_SIDE, Place.HIP_BACK,
    Place.GROIN, Place.SIT_BONE, Place.THIGH_BACK, Place.THIGH_FRONT, Place.ANKLE_FOOT,
    Place.LOW_BACK, Place.WRIST, Place.SHOULDER, Place.NECK, Place.HEAD, Place.ELSEWHERE,
)  # fmt: skip
AT_A_VISIT = (
    Place.LOW_BACK, Place.GROIN, Place.LEFT_HIP, Place.RIGHT_HIP, Place.LEFT_THIGH_BACK,
    Place.RIGHT_THIGH_BACK, Place.LEFT_KNEE, Place.RIGHT_KNEE, Place.ELSEWHERE,
)  # fmt: skip


def with_part(place: Place, part: str) -> Place:
    """A knee with the part of it that was said; any other place, and no part, as it is."""
    known = place in (Place.LEFT_KNEE, Place.RIGHT_KNEE) and part in KNEE_PARTS
    return Place(f"{place}_{part}") if known else place


def as_place(text: str) -> Place | None:
    """A place by its id, None where there is no such place."""
    return Place(text) if text in set(Place) else None


class Happened(StrEnum):
    """What happened that a coach may want to know."""

    SIGNED_IN = "signed_in"
    PASSWORD = "password"
    PASSWORD_BY_LINK = "password_by_link"
    PASSWORD_BY_COMMAND = "password_by_command"
    KEPT_DAYS = "kept_days"
    INVITED = "invited"
    RESET_LINK = "reset_link"
    CLOSED = "closed"
    OPENED = "opened"
    HANDED_OVER = "handed_over"
    CAME_FROM = "came_from"
    HANDED_BETWEEN = "handed_between"
    CONSENT = "consent"
    CONSENT_WITHDRAWN = "consent_withdrawn"
    REPORT = "report"
    READINGS_IN = "readings_in"
    RECORD_OUT = "record_out"
    EVERYBODY_OUT = "everybody_out"
    RECORD_IN = "record_in"
    MERGED = "merged"
    ERASED = "erased"
    PHOTOGRAPHS_ERASED = "photographs_erased"
    VISIT_ERASED = "visit_erased"
    SHOT_ERASED = "shot_erased"
    OWN_PAGE = "own_page"
    OWN_DATA = "own_data"
    OTHER = "other"


#: What happened in words; ``{}`` is the one thing that each of them tells beside its kind.
HAPPENED: dict[Happened, str] = {
    Happened.SIGNED_IN: "signed in",
    Happened.PASSWORD: "changed the password",
    Happened.PASSWORD_BY_LINK: "chose a new password by the owner’s link",
    Happened.PASSWORD_BY_COMMAND: "got a new password from the command line",
    Happened.KEPT_DAYS: "deleted photographs are kept for {} days",
    Happened.INVITED: "invited {} as a coach",
    Happened.RESET_LINK: "made a link by which {} chooses a new password",
    Happened.CLOSED: "closed the account of {}",
    Happened.OPENED: "opened the account of {}",
    Happened.HANDED_OVER: "a person was handed over to {}",
    Happened.CAME_FROM: "was handed over by {}",
    Happened.HANDED_BETWEEN: "handed a person over {}",
    Happened.CONSENT: "consent was given: {}",
    Happened.CONSENT_WITHDRAWN: "consent to photographs was withdrawn",
    Happened.REPORT: "a report for {} was made",
    Happened.READINGS_IN: "{} readings came from a table",
    Happened.RECORD_OUT: "the record was written to a file",
    Happened.EVERYBODY_OUT: "everybody’s record was written to a file",
    Happened.RECORD_IN: "{} people were taken in from a file",
    Happened.MERGED: "two records were made one",
    Happened.ERASED: "a person was erased",
    Happened.PHOTOGRAPHS_ERASED: "every photograph was erased",
    Happened.VISIT_ERASED: "a visit was erased",
    Happened.SHOT_ERASED: "a photograph was erased",
    Happened.OWN_PAGE: "the private page was opened",
    Happened.OWN_DATA: "their data was downloaded by the private link",
    Happened.OTHER: "{}",
}
