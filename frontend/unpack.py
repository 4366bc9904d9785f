"""Faces as TTF out of those that are packed for the web: `python3 unpack.py FROM TO` (needs fonttools)."""

import sys
from pathlib import Path

from fontTools.ttLib import TTFont

FACES = {
    "barlow/files/barlow-latin-400-normal": "barlow-400",
    "barlow/files/barlow-latin-ext-400-normal": "barlow-ext-400",
    "barlow-semi-condensed/files/barlow-semi-condensed-latin-600-normal": "barlow-semi-condensed-600",
    "barlow-semi-condensed/files/barlow-semi-condensed-latin-ext-600-normal": "barlow-semi-condensed-ext-600",
    "ibm-plex-mono/files/ibm-plex-mono-latin-400-normal": "ibm-plex-mono-400",
}

source, target = map(Path, sys.argv[1:])
target.mkdir(exist_ok=True)
for packed, name in FACES.items():
    face = TTFont(source / f"{packed}.woff")
    face.flavor = None
    face.save(target / f"{name}.ttf")
