"""The tests: core rules by value, the pages, the real interface, and checks against what others published.

Hypothesis has one profile for all of them: no deadlines, since a busy machine is no fault of the code."""

from hypothesis import HealthCheck, settings

settings.register_profile("ours", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("ours")
