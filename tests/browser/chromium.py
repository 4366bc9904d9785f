"""Debian's Chromium, and the size of the desk it is looked at on."""

import shutil

CHROMIUM = shutil.which("chromium-headless-shell") or shutil.which("chromium") or "/usr/bin/chromium"
DESK = {"width": 1280, "height": 800}
