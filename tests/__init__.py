"""Tests. Hypothesis tries the same examples every time and is not hurried on a busy machine."""

from hypothesis import HealthCheck, settings

settings.register_profile(
    "steady", deadline=None, derandomize=True, suppress_health_check=[HealthCheck.too_slow]
)
settings.load_profile("steady")
