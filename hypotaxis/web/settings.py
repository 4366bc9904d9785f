"""Settings: one person, on the own machine, nothing loaded from elsewhere.

HYPOTAXIS_DATA names the data folder (default: see web/folder.py), HYPOTAXIS_DB the database file in it,
HYPOTAXIS_COPIES how many copies of the day are kept (default 7, 0 = none), HYPOTAXIS_PROXY the address (https://…) of a
proxy in front, by which the room may come in (docs/room.md).
"""

import os
from pathlib import Path
from urllib.parse import urlsplit

from csp.constants import NONE, SELF

from hypotaxis.web.folder import data_folder, prepare, secret_key

BASE = Path(__file__).resolve().parents[2]
DATA = data_folder(BASE)
# What is made from here on is its owner's alone, in this process and in those that it starts.
os.umask(0o077)
prepare(DATA)
AUDIO = DATA / "audio"
COPIES_KEPT = int(os.environ.get("HYPOTAXIS_COPIES", "7") or 0)
SECRET_KEY = secret_key(DATA)
COMMAND = "manage.py" if (BASE / "manage.py").exists() else "hypotaxis"
"""How the command line is called, as pages and messages name it."""
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]"]
PROXY = os.environ.get("HYPOTAXIS_PROXY", "").rstrip("/")
if PROXY:
    ALLOWED_HOSTS.append(urlsplit(PROXY).hostname or "")
ROOT_URLCONF = "hypotaxis.web.urls"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

INSTALLED_APPS = [
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
    "csp",
    "huey.contrib.djhuey",
    "hypotaxis.web",
    "hypotaxis.records",
    "hypotaxis.demo",
    "hypotaxis.steps.rig",
    "hypotaxis.steps.instruments",
    "hypotaxis.steps.sync",
    "hypotaxis.steps.timing",
    "hypotaxis.steps.session",
    "hypotaxis.steps.handover",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "hypotaxis.web.room.gate.gate",
    "hypotaxis.web.middleware.Compressed",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "hypotaxis.web.middleware.reads_once",
    "hypotaxis.web.middleware.named_errors",
    "hypotaxis.web.middleware.same_window",
]
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.jinja2.Jinja2",
        "DIRS": [BASE / "hypotaxis/web/templates", *BASE.glob("hypotaxis/steps/*/templates")],
        "OPTIONS": {
            "environment": "hypotaxis.web.templating.environment",
            # What is read once is kept; whoever works on templates starts anew.
            "auto_reload": False,
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.messages.context_processors.messages",
                "hypotaxis.web.templating.csrf",
                "hypotaxis.web.frame.frame",
            ],
        },
    }
]
FORM_RENDERER = "hypotaxis.web.forms.Renderer"

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": os.environ.get("HYPOTAXIS_DB", DATA / "hypotaxis.sqlite3"),
        "OPTIONS": {
            "transaction_mode": "IMMEDIATE",
            "timeout": 20,
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA foreign_keys=ON;",
        },
        "TEST": {"NAME": DATA / "test.sqlite3"},
    }
}
HUEY = {
    "huey_class": "huey.SqliteHuey",
    "name": "hypotaxis",
    "filename": os.environ.get("HYPOTAXIS_QUEUE", str(DATA / "queue.sqlite3")),
    "immediate": os.environ.get("HYPOTAXIS_IMMEDIATE") == "1",
    "immediate_use_memory": False,
    "results": False,
    # Takes are measured while the next pass is recorded; the studio itself is held by one at a time.
    "consumer": {"workers": 4, "worker_type": "thread", "initial_delay": 0.05, "backoff": 1.1, "max_delay": 0.2},
}
# What opens the studio; only the worker process calls it.
STUDIO_OPENER = "hypotaxis.web.studio_startup.open_studio"
# What a key of the stand view calls, in the worker.
STAND_PRESSED = "hypotaxis.web.stand.keys.pressed"

STATIC_URL = "/static/"
STATIC_ROOT = DATA / "static"
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage"},
    "staticfiles": {"BACKEND": "hypotaxis.web.storage.Hashed"},
}
# File names carry the hash of their content, so a browser may keep them for a year.
WHITENOISE_MAX_AGE = 365 * 24 * 3600
MEDIA_ROOT = DATA / "media"

SESSION_COOKIE_SAMESITE = "Strict"
CSRF_COOKIE_SAMESITE = "Strict"
SESSION_ENGINE = "django.contrib.sessions.backends.signed_cookies"
CSRF_FAILURE_VIEW = "hypotaxis.web.errors.stale_form"
X_FRAME_OPTIONS = "DENY"
SECURE_REFERRER_POLICY = "same-origin"
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF],
        "style-src": [SELF],
        "font-src": [SELF],
        "connect-src": [SELF],
        "form-action": [SELF],
        "img-src": [SELF, "data:"],
        "media-src": [SELF, "blob:"],
        "base-uri": [NONE],
        "frame-ancestors": [NONE],
    }
}
DATA_UPLOAD_MAX_MEMORY_SIZE = 24 * 1024 * 1024
FILE_UPLOAD_MAX_MEMORY_SIZE = 2 * 1024 * 1024
# In the data folder, so that an upload is moved into place instead of copied; emptied at each start.
FILE_UPLOAD_TEMP_DIR = DATA / "uploads"
prepare(FILE_UPLOAD_TEMP_DIR)
MAX_REQUEST_BYTES = 2 * 2**30 + 64 * 2**20
# Three a port: a desk of 400 boxes has 400.
DATA_UPLOAD_MAX_NUMBER_FIELDS = 10_000

LANGUAGE_CODE = "en-gb"
USE_I18N = False
USE_TZ = True
TIME_ZONE = os.environ.get("TZ") or "UTC"

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"line": {"format": "%(asctime)s %(levelname)s %(name)s: %(message)s"}},
    "handlers": {
        "file": {
            "class": "logging.handlers.RotatingFileHandler",
            "filename": DATA / "hypotaxis.log",
            "maxBytes": 2_000_000,
            "backupCount": 2,
            "formatter": "line",
            "delay": True,
        },
    },
    "root": {"handlers": ["file"], "level": "WARNING"},
}
