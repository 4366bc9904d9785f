"""Pictures of boxes: any raster picture becomes a small PNG of our own making, named by its content.

Nothing of what was uploaded is kept as it was (core.formats.picture).
"""

import base64
import hashlib
import io
from dataclasses import replace
from pathlib import Path
from typing import BinaryIO

from django.conf import settings

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats import unknown
from hypotaxis.core.formats.picture import pixels_of, small_picture
from hypotaxis.core.plan import Plan
from hypotaxis.records.audio import scratch

MAX_BYTES = 12 * 2**20
MOST_HERE = 4_000_000
"""Pixels of a picture that the server reads by itself."""


def keep_picture(stream: BinaryIO) -> str:
    """Make a small PNG of a picture and keep it; its name. Raises UnreadableFile with what to do."""
    data = stream.read(MAX_BYTES + 1)
    if len(data) > MAX_BYTES:
        raise UnreadableFile(f"The picture is larger than {MAX_BYTES // 2**20} MB. Scale it down first.")
    made = _small(data)
    name = hashlib.sha256(made).hexdigest()
    path = picture_path(name)
    if not path.exists():
        part = path.with_suffix(".part")
        part.write_bytes(made)
        part.replace(path)
    return name


def _small(data: bytes) -> bytes:
    """A PNG of our own making; a large picture is made small in a process of its own."""
    if pixels_of(data) <= MOST_HERE:
        return small_picture(data)
    with scratch("imports", ".picture") as path:
        path.write_bytes(data)
        return unknown.small_picture(path)


def picture_path(name: str) -> Path:
    """Where a kept picture lies."""
    folder = settings.DATA / "pictures"
    folder.mkdir(exist_ok=True)
    return folder / f"{name}.png"


def embedded(plan: Plan) -> tuple[tuple[str, str], ...]:
    """The pictures of a plan's boxes, for its file: (name, PNG in base64)."""
    names = sorted({box.picture for box in plan.rig.boxes if box.picture})
    there = [(name, picture_path(name)) for name in names if name.isalnum()]
    return tuple((name, base64.b64encode(path.read_bytes()).decode()) for name, path in there if path.exists())


def with_pictures(plan: Plan) -> Plan:
    """The plan with the pictures that came with it kept, and no others named."""
    names = {name: keep_picture(io.BytesIO(base64.b64decode(png))) for name, png in plan.pictures}
    boxes = tuple(replace(box, picture=names.get(box.picture, "")) for box in plan.rig.boxes)
    return replace(plan, rig=replace(plan.rig, boxes=boxes), pictures=())
