"""What a proposal says: the change and its reason, in words made of what it is about."""

from __future__ import annotations

from collections.abc import Mapping

from dachi.core.catalogue.drills import Drill
from dachi.core.practising.progression import Why
from dachi.core.words import PainKind, Place

_WEEK = "lower doses, no strength work"


def say(
    why: Why, subject: str, about: Mapping[str, str | float], drills: Mapping[str, Drill]
) -> tuple[str, str]:
    """The sentence of a change and the words of its reason; KeyError where a drill is gone."""
    text, reason = _TOLD[why]
    known = {
        **about,
        "subject": drills[subject].name if subject in drills else subject,
        **{k: drills[str(about[k])].name for k in ("easier", "harder") if k in about},
    }
    if why in (Why.HURT, Why.HURT_NO_EASIER):
        place, kind = Place(str(about["place"])), PainKind(str(about["kind"]))
        known["where"] = place.said
        # That a knee hurts in the knee need not be said.
        own = kind is PainKind.KNEE and place.is_knee
        known["like"] = "" if own else f" ({kind})"
    elif why is Why.HURT_AGAIN:
        known["subject"] = Place(subject).said
    elif why is Why.EASY_AT_HEIGHT:
        known["how"] = f", one layer less of {about['layers']:.0f}" if "layers" in about else ""
    elif why is Why.EASY:
        known |= _longer(drills[subject], about)
    return text.format(**known), reason.format(**known)


def _longer(drill: Drill, about: Mapping[str, str | float]) -> dict[str, str]:
    much = "a quarter more"
    if "seconds" in about:
        seconds = float(about["seconds"])
        much = f"{seconds / 60:g} min" if seconds >= 120 else f"{seconds:.0f} s"
    return {"what": "more repetitions" if drill.reps else "a longer hold", "much": much}


_HURT = "pain in the {where}{like} was logged at “{subject}”"
_TOLD: dict[Why, tuple[str, str]] = {
    Why.HURT: ("Back a rung: “{easier}” instead of “{subject}”.", _HURT),
    Why.HURT_NO_EASIER: ("Leave “{subject}” out for now.", _HURT),
    Why.HURT_AGAIN: (
        "Have the {subject} looked at by a doctor or physiotherapist.",
        "pain there was logged {times} times in four weeks",
    ),
    Why.SORE: (
        "A gentler week: doses of the level below, no strength work.",
        "the day after the last session was {soreness} of 10 sore",
    ),
    Why.HARD_WEEKS: (f"An easy week: {_WEEK}.", "three weeks with strength work lie behind"),
    Why.HARD: (
        "“{easier}” instead of “{subject}”.", "the last {times} times were hard",
    ),
    Why.HARD_NO_EASIER: (
        "Less of “{subject}”: three quarters of it.", "the last {times} times were hard",
    ),
    Why.MISSED: (
        "Sessions of {less:.0f} minutes instead of {minutes:.0f}.",
        "{done} of {planned} sessions were done in two weeks: short ones that happen are worth "
        "more than long ones that do not",
    ),
    Why.EASY_AT_HEIGHT: (
        "“{subject}”: support from {from:g} to {to:g} cm{how}, with the usual hold.",
        "the last {times} sessions at this height were easy and the passive reading improved "
        "beyond what chance explains",
    ),
    Why.EASY: (
        "“{subject}”: {what}, {much}.", "the last {times} times were easy; length grows before load"
    ),
    Why.EASY_AND_LONG: (
        "“{harder}” instead of “{subject}”.",
        "the last {times} times were easy, at twice the usual length",
    ),
    Why.ALL_WELL: (
        "Leave the plan as it is.",
        "sessions are done, nothing hurts, and nothing has been easy for long",
    ),
    Why.EARLIER: ("{text}", "{reason}"),
}  # fmt: skip
