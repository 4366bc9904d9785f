"""The many small parts of the sheet as markup: cables, cards, sockets.

Written here and not in a template, since a large rig has thousands of them and the page has to answer at once. Every
text goes through `escape`; where things stand is the drawing's affair (core.drawing.cards).
"""

from dataclasses import dataclass, replace
from functools import lru_cache
from html import escape

from django.template.loader import get_template
from django.urls import reverse
from django.utils.safestring import SafeString, mark_safe
from django.utils.text import slugify

from hypotaxis.core.drawing.cards import (
    Lettering,
    Rect,
    head_of,
    hit_of,
    is_open,
    label_of,
    mark_of,
    sleeve_at,
    tab_of,
)
from hypotaxis.core.drawing.sheet import BoxDrawing, CableDrawing, SheetDrawing, SocketDrawing

KEPT = 4096
"""Cards and cables, some kB each: most are as they were when something of a rig changes."""
_NO_UID = "00000000-0000-0000-0000-000000000000"


@dataclass(frozen=True)
class _Page:
    """What the parts need of the page: the picked socket, those that fit it, addresses with a gap for the uid."""

    picked: str
    fitting: frozenset[str]
    box: str
    move: str
    cable: str
    sign: str


def sheet_parts(drawing: SheetDrawing, *, picked: str = "", fitting: frozenset[str] = frozenset()) -> SafeString:
    """Cables, then cards with their sockets, in the order in which the keyboard walks over them."""
    box, move, cable = (reverse(f"rig:{name}", args=[_NO_UID]) for name in ("box", "move", "cable"))
    sign = get_template("web/pieces.html").template.module.sign()
    plain = _Page("", frozenset(), box, move, cable, sign)
    page, chosen = replace(plain, picked=picked, fitting=fitting), fitting | {picked}
    parts = [_cable(plain, one) for one in drawing.cables]
    for one in drawing.boxes:
        concerned = any(socket.uid in chosen for socket in one.sockets)
        parts.append(_card(page if concerned else plain, one))
    return mark_safe("".join(parts))


@lru_cache(KEPT)
def _cable(page: _Page, one: CableDrawing) -> str:
    spoken, path, address = escape(one.spoken), one.path, page.cable.replace(_NO_UID, one.uid)
    strong = " cable-strong" if one.strong else ""
    core = {"usb": "cable-usb-core", "cv": "cable-ticks"}.get(one.kind)
    inner = f'<path class="{core}" d="{path}"/>' if core else ""
    return (
        f'<a class="cable-link" href="{address}" aria-label="{spoken}"><title>{spoken}</title>'
        f'<path class="cable cable-{one.ink} cable-{one.kind}{strong}" d="{path}"/>{inner}'
        f'{"".join(_sleeve(one.colour, x, y) for x, y in one.sleeves)}<path class="cable-hit" d="{path}"/></a>'
    )


def _sleeve(colour: str, x: float, y: float) -> str:
    """The cable's own colour, at an end of it."""
    return f'<rect class="sleeve sleeve-{escape(slugify(colour))}" {_at(sleeve_at(x, y))}/>'


@lru_cache(KEPT)
def _card(page: _Page, one: BoxDrawing) -> str:
    move = "" if one.role == "receives" else f' data-move="{page.move.replace(_NO_UID, one.uid)}"'
    strong = " unit-strong" if one.strong else ""
    tab = f'<rect {_at(tab_of(one))} fill="{escape(one.colour)}"/>' if one.colour else ""
    return (
        f'<g data-box="{one.uid}" data-role="{one.role}"{move}>'
        f'<rect class="unit{strong}" {_at(Rect(one.x, one.y, one.w, one.h))}/>{tab}'
        f"{_name(page, one)}{''.join(_socket(page, one, item) for item in one.sockets)}</g>"
    )


def _name(page: _Page, one: BoxDrawing) -> str:
    """The link with the box's name, and what stands beside it."""
    head = head_of(one)
    note = _text(head.note, "caption") if head.note else ""
    rule = f'<path class="rule" d="{head.rule}"/>' if head.rule else ""
    beside = ""
    if head.picture:
        beside = f'<image href="{escape(reverse("rig:picture", args=[one.picture]))}" {_at(head.picture)}/>'
    elif head.icon:
        beside = f'<use class="box-icon" href="#icon-{escape(one.icon)}" {_at(head.icon)}/>'
    return (
        f'<a class="box-link" href="{page.box.replace(_NO_UID, one.uid)}" '
        f'aria-label="{escape(one.full_title)}, {escape(one.note)}: change"><title>{escape(one.full_title)}</title>'
        f'<rect class="hit" {_at(head.hit)}/>{_text(head.name, "box-name")}{note}</a>{beside}{rule}'
    )


def _socket(page: _Page, card: BoxDrawing, one: SocketDrawing) -> str:
    spoken = escape(one.spoken)
    classes, fits, told = "socket", "", spoken
    if one.uid in page.fitting:
        classes, fits, told = "socket fits", f' data-fits="{one.uid}"', f"{spoken}; draw the cable here"
    if one.uid == page.picked:
        classes += " picked"
    cable = f' data-cable="{one.cable}"' if one.cable else ""
    return (
        f'<a href="?at={one.uid}" data-socket="{one.uid}"{cable}{fits} class="{classes}" aria-label="{told}">'
        f'<title>{spoken}</title><rect class="hit" {_at(hit_of(one))}/>{_mark(page, one)}{_label(card, one)}</a>'
    )


def _mark(page: _Page, one: SocketDrawing) -> str:
    mark, ink = mark_of(one), f"dot-{one.ink}"
    if mark.kind in ("dot", "ring"):
        ring, strong = " ring" if mark.kind == "ring" else "", " dot-strong" if one.strong else ""
        return f'<circle class="dot{ring} {ink}{strong}" cx="{one.x}" cy="{one.y}" r="{mark.radius}"/>'
    if mark.sign is None:
        return f'<path class="stub {ink}" d="{mark.path}"/>'
    x, y = mark.sign
    return f'<path class="stub dot-alarm" d="{mark.path}"/><g transform="translate({x} {y})">{page.sign}</g>'


def _label(card: BoxDrawing, one: SocketDrawing) -> str:
    label, tag = label_of(card, one)
    alarm = " label-alarm" if is_open(one) else ""
    tone = alarm or (f" strong-{one.ink}" if one.strong else "")
    return _text(label, f"socket-label{tone}") + (_text(tag, f"tag{alarm}") if tag else "")


def _text(one: Lettering, classes: str) -> str:
    anchor = "" if one.anchor == "start" else f' text-anchor="{one.anchor}"'
    return f'<text class="{classes}" x="{one.x}" y="{one.y}"{anchor}>{escape(one.text)}</text>'


def _at(place: Rect) -> str:
    return f'x="{place.x}" y="{place.y}" width="{place.w}" height="{place.h}"'
