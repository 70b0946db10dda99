"""The tests. Property tests try the same examples every time, and none is timed: machines are slow now and then."""

from hypothesis import HealthCheck, settings

settings.register_profile("steady", derandomize=True, deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("steady")
