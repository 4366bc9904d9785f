"""Pictures of any raster form, made small: what is kept of one is a PNG of our own making.

Nothing of what came is left in it: no metadata, no other format, no drawing that could carry a script. How large a
picture is stands in its head and is looked at first; what is large is read in a process of its own (formats.unknown).
"""

import io
import warnings
from contextlib import contextmanager

from PIL import Image, ImageOps, UnidentifiedImageError

from hypotaxis.core.errors import UnreadableFile

SIDE = 128
"""Px of the longer side."""
MAX_PIXELS, MAX_SIDE = 50_000_000, 20_000
FORMATS = ("PNG", "JPEG", "WEBP", "GIF", "BMP", "TIFF")


def pixels_of(data: bytes) -> int:
    """How many pixels a picture has, by its head. Raises UnreadableFile for one that is none, or too large."""
    with _told(), Image.open(io.BytesIO(data), formats=FORMATS) as picture:
        return _checked(picture)


def small_picture(data: bytes) -> bytes:
    """A PNG whose longer side is SIDE at most, turned as the picture says. Raises UnreadableFile with what to do."""
    with _told(), Image.open(io.BytesIO(data), formats=FORMATS) as picture:
        _checked(picture)
        picture.draft("RGB", (2 * SIDE, 2 * SIDE))
        upright = ImageOps.exif_transpose(picture).convert("RGBA")
        upright.thumbnail((SIDE, SIDE))
        plain = Image.new("RGBA", upright.size)
        plain.paste(upright)
        made = io.BytesIO()
        plain.save(made, "PNG")
        return made.getvalue()


def _checked(picture: Image.Image) -> int:
    wide, high = picture.size
    if wide * high > MAX_PIXELS or max(wide, high) > MAX_SIDE:
        raise UnreadableFile(
            f"The picture has {wide:,} by {high:,} pixels. {MAX_PIXELS // 1_000_000} million pixels are read, and no "
            f"side of more than {MAX_SIDE:,}: scale it down first."
        )
    return wide * high


@contextmanager
def _told():
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            yield
    except (UnidentifiedImageError, Image.DecompressionBombError, Image.DecompressionBombWarning) as error:
        raise UnreadableFile(
            "This picture cannot be read. Use PNG, JPEG, WebP, GIF, BMP or TIFF; drawings (SVG) are not accepted."
        ) from error
    except (OSError, ValueError, SyntaxError, EOFError, IndexError, TypeError, KeyError) as error:
        raise UnreadableFile("The picture is damaged: it ends too early, or its data are faulty.") from error
