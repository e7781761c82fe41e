"""Tests. Hypothesis tries the same examples every time and is not hurried on a busy machine."""

from collections.abc import Callable
from typing import TypeVar

from hypothesis import HealthCheck, settings

settings.register_profile(
    "steady", deadline=None, derandomize=True, suppress_health_check=[HealthCheck.too_slow]
)
settings.load_profile("steady")

T = TypeVar("T")


def slow(why: str) -> Callable[[T], T]:
    """Keep a test, or a class of them, for ``make test-all``; ``why`` it takes its time."""

    def marked(thing: T) -> T:
        thing.slow = why  # type: ignore[attr-defined]
        return thing

    return marked
