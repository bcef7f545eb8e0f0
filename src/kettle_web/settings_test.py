"""Settings for tests: a data folder that is thrown away."""

import os
import tempfile

os.environ["KETTLE_DATA"] = tempfile.mkdtemp(prefix="kettle-test-")

from kettle_web.settings import *  # noqa: F403

# A file, as it is used: what two requests at once do to a database in memory says little.
DATABASES["default"]["TEST"] = {"NAME": DATA / "test.sqlite3"}  # noqa: F405
STORAGES = {
    "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"nowhere": {"class": "logging.NullHandler"}},
    "loggers": {"django": {"handlers": ["nowhere"], "propagate": False}},
    "root": {"handlers": ["nowhere"]},
}
# A test that hangs fails where it stands.
TEST_RUNNER = "tests.runner.LimitedRunner"
