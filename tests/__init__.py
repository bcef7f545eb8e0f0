"""All tests. No time limit on examples: machines are noisy, speed is measured by the bench."""

from hypothesis import settings

settings.register_profile("noisy")
settings.load_profile("noisy")
