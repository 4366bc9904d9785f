"""The many small parts of a picture of notes as markup: written here and not by a template, for speed."""

from collections.abc import Iterable

from django.utils.html import escape
from django.utils.safestring import SafeString, mark_safe

from hypotaxis.core.drawing.roll import STEMS_H, RollNote


def notes_markup(notes: Iterable[RollNote], chosen: frozenset[int], height: float) -> SafeString:
    """A bar each, so high, with what it tells where the pointer rests."""
    return mark_safe(
        "".join(
            f'<rect class="roll-note{" chosen" if one.place in chosen else ""}" x="{one.x}%" width="{one.w}%" '
            f'y="{one.y}" height="{height}" data-place="{one.place}" data-tick="{one.tick}" '
            f'data-duration="{one.duration}" data-note="{one.note}" data-velocity="{one.velocity}">'
            f"<title>{escape(one.told)}</title></rect>"
            for one in notes
        )
    )


def stems_markup(notes: Iterable[RollNote], chosen: frozenset[int]) -> SafeString:
    """A stem each, as high as its velocity."""
    return mark_safe(
        "".join(
            f'<line class="stem{" chosen" if one.place in chosen else ""}" x1="{one.x}%" x2="{one.x}%" y1="{STEMS_H}" '
            f'y2="{one.stem_y}"/>'
            for one in notes
        )
    )
