"""Settings of the test suite: a data folder of its own, tasks run at once, static files unhashed."""

import atexit
import os
import shutil
import tempfile

os.environ["HYPOTAXIS_DATA"] = tempfile.mkdtemp(prefix="hypotaxis-test-")
atexit.register(shutil.rmtree, os.environ["HYPOTAXIS_DATA"], ignore_errors=True)
os.environ.setdefault("HYPOTAXIS_IMMEDIATE", "1")

from hypotaxis.web.settings import *  # noqa: E402, F403

STORAGES["staticfiles"] = {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"}  # noqa: F405
STATIC_ROOT.mkdir()  # noqa: F405
TEST_RUNNER = "tests.runner.Runner"
