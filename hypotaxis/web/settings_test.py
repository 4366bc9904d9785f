"""Settings of the test suite: a data folder of its own, tasks run at once, static files unhashed."""

import os
import tempfile

os.environ["HYPOTAXIS_DATA"] = tempfile.mkdtemp(prefix="hypotaxis-test-")
os.environ.setdefault("HYPOTAXIS_IMMEDIATE", "1")

from hypotaxis.web.settings import *  # noqa: F403

STORAGES["staticfiles"] = {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"}  # noqa: F405
