"""All tests. No time limit on examples: machines are noisy, speed is measured by the bench."""

from hypothesis import HealthCheck, settings

settings.register_profile("noisy", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("noisy")
