"""Pictures of boxes: any raster picture becomes a small PNG of our own making, named by its content.

Nothing of what was uploaded is kept as it was: no metadata, no other format, no drawing that could carry a script.
"""

import base64
import hashlib
import io
import warnings
from dataclasses import replace
from pathlib import Path
from typing import BinaryIO

from django.conf import settings
from PIL import Image, ImageOps, UnidentifiedImageError

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.plan import Plan

SIDE = 128
"""Px of the longer side."""
MAX_BYTES = 12 * 2**20
MAX_PIXELS = 50_000_000
FORMATS = ("PNG", "JPEG", "WEBP", "GIF", "BMP", "TIFF")


def keep_picture(stream: BinaryIO) -> str:
    """Make a small PNG of a picture and keep it; its name. Raises UnreadableFile with what to do."""
    data = stream.read(MAX_BYTES + 1)
    if len(data) > MAX_BYTES:
        raise UnreadableFile(f"The picture is larger than {MAX_BYTES // 2**20} MB. Scale it down first.")
    made = io.BytesIO()
    _small(data).save(made, "PNG")
    name = hashlib.sha256(made.getvalue()).hexdigest()
    path = picture_path(name)
    if not path.exists():
        part = path.with_suffix(".part")
        part.write_bytes(made.getvalue())
        part.replace(path)
    return name


def _small(data: bytes) -> Image.Image:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            with Image.open(io.BytesIO(data), formats=FORMATS) as picture:
                if picture.width * picture.height > MAX_PIXELS:
                    raise UnreadableFile(f"The picture has more than {MAX_PIXELS // 1_000_000} million pixels.")
                picture.draft("RGB", (2 * SIDE, 2 * SIDE))
                upright = ImageOps.exif_transpose(picture).convert("RGBA")
        upright.thumbnail((SIDE, SIDE))
        plain = Image.new("RGBA", upright.size)
        plain.paste(upright)
        return plain
    except (UnidentifiedImageError, Image.DecompressionBombError, Image.DecompressionBombWarning) as error:
        raise UnreadableFile(
            "This picture cannot be read. Use PNG, JPEG, WebP, GIF, BMP or TIFF; drawings (SVG) are not accepted."
        ) from error
    except (OSError, ValueError, SyntaxError) as error:
        raise UnreadableFile("The picture is damaged: it ends too early, or its data are faulty.") from error


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
