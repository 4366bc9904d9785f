"""The many small parts of the sheet as markup: cables, cards, sockets.

Written here and not in a template, since a large rig has thousands of them and the page has to answer at once. Every
text goes through `escape`.
"""

from dataclasses import dataclass
from html import escape

from django.template.loader import render_to_string
from django.urls import reverse
from django.utils.safestring import SafeString, mark_safe

from hypotaxis.core.drawing.sheet import FREE, IDLE, LOOSE, USED, BoxDrawing, CableDrawing, SheetDrawing, SocketDrawing

LABEL, NOTE = 20, 20
_NO_UID = "00000000-0000-0000-0000-000000000000"
_STUBS = {"right": "h9", "bottom": "v9", "left": "h-9"}


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
    page = _Page(picked, fitting, box, move, cable, render_to_string("web/includes/sign.html", {"number": ""}))
    parts = [_cable(page, one) for one in drawing.cables]
    parts += [_card(page, one) for one in drawing.boxes]
    return mark_safe("".join(parts))


def _cable(page: _Page, one: CableDrawing) -> str:
    spoken, path, address = escape(one.spoken), one.path, page.cable.replace(_NO_UID, one.uid)
    strong = " cable-strong" if one.strong else ""
    core = {"usb": "cable-usb-core", "cv": "cable-ticks"}.get(one.kind)
    inner = f'<path class="{core}" d="{path}"/>' if core else ""
    return (
        f'<a class="cable-link" href="{address}" aria-label="{spoken}"><title>{spoken}</title>'
        f'<path class="cable cable-{one.ink} cable-{one.kind}{strong}" d="{path}"/>{inner}'
        f'<path class="cable-hit" d="{path}"/></a>'
    )


def _card(page: _Page, one: BoxDrawing) -> str:
    move = "" if one.role == "receives" else f' data-move="{page.move.replace(_NO_UID, one.uid)}"'
    strong = " unit-strong" if one.strong else ""
    tab = ""
    if one.colour:
        tab = f'<rect x="{one.x}" y="{one.y}" width="4" height="{one.h}" fill="{escape(one.colour)}"/>'
    return (
        f'<g data-box="{one.uid}" data-role="{one.role}"{move}>'
        f'<rect class="unit{strong}" x="{one.x}" y="{one.y}" width="{one.w}" height="{one.h}"/>{tab}'
        f"{_name(page, one)}{''.join(_socket(page, one, item) for item in one.sockets)}</g>"
    )


def _name(page: _Page, one: BoxDrawing) -> str:
    """The link with the box's name, between its sockets or above them, and what stands beside it."""
    title, note = escape(one.title), escape(_short(one.note, NOTE))
    head = (
        f'<a class="box-link" href="{page.box.replace(_NO_UID, one.uid)}" '
        f'aria-label="{escape(one.full_title)}, {escape(one.note)}: change"><title>{escape(one.full_title)}</title>'
    )
    if one.compact:
        x, y = one.name_x, one.name_y
        return (
            f'{head}<rect class="hit" x="{x - 48}" y="{one.y}" width="96" height="{one.h}"/>'
            f'<text class="box-name" x="{x}" y="{y}" text-anchor="middle">{title}</text>'
            f'<text class="caption" x="{x}" y="{y + 17}" text-anchor="middle">{note}</text></a>'
        )
    height = 30 if one.sockets else one.h
    rule = f'<path class="rule" d="M{one.x + 1} {one.y + 31}h{one.w - 2}"/>' if one.sockets else ""
    return (
        f'{head}<rect class="hit" x="{one.x}" y="{one.y}" width="{one.w}" height="{height}"/>'
        f'<text class="box-name" x="{one.x + 13}" y="{one.y + 21}">{title}</text></a>{_beside(one, note)}{rule}'
    )


def _beside(one: BoxDrawing, note: str) -> str:
    if one.role == "hands":
        under = "" if one.sockets else f'<text class="caption" x="{one.x + 13}" y="{one.y + 38}">{note}</text>'
        return under
    right = one.x + one.w
    if one.role != "boxes":
        shown = note if len(one.title) < 12 else ""
        return f'<text class="caption" x="{right - 12}" y="{one.y + 21}" text-anchor="end">{shown}</text>'
    if one.w < 200:
        return ""
    caption = ""
    if len(one.title) < 13:
        caption = f'<text class="caption" x="{right - 36}" y="{one.y + 21}" text-anchor="end">{note}</text>'
    if one.picture:
        address = escape(reverse("rig:picture", args=[one.picture]))
        return f'{caption}<image href="{address}" x="{right - 30}" y="{one.y + 4}" width="24" height="24"/>'
    if one.icon:
        place = f'x="{right - 28}" y="{one.y + 7}" width="18" height="18"'
        return f'{caption}<use class="box-icon" href="#icon-{escape(one.icon)}" {place}/>'
    return caption


def _socket(page: _Page, card: BoxDrawing, one: SocketDrawing) -> str:
    spoken = escape(one.spoken)
    classes, fits, told = "socket", "", spoken
    if one.uid in page.fitting:
        classes, fits, told = "socket fits", f' data-fits="{one.uid}"', f"{spoken}; draw the cable here"
    if one.uid == page.picked:
        classes += " picked"
    cable = f' data-cable="{one.cable}"' if one.cable else ""
    top = one.y - (24 if one.side == "bottom" else 14)
    return (
        f'<a href="?at={one.uid}" data-socket="{one.uid}"{cable}{fits} class="{classes}" aria-label="{told}">'
        f'<title>{spoken}</title><rect class="hit" x="{one.hit_x}" y="{top}" width="{one.hit_w}" height="28"/>'
        f"{_dot(page, one)}{_label(card, one)}</a>"
    )


def _dot(page: _Page, one: SocketDrawing) -> str:
    """A socket's state is a shape: filled, ring, stub, or an open end with the sign."""
    strong = " dot-strong" if one.strong else ""
    if one.state == USED:
        return f'<circle class="dot dot-{one.ink}{strong}" cx="{one.x}" cy="{one.y}" r="{7 if one.strong else 5}"/>'
    if one.state == IDLE:
        return f'<circle class="dot ring dot-{one.ink}{strong}" cx="{one.x}" cy="{one.y}" r="4.5"/>'
    if one.state == FREE:
        return f'<path class="stub dot-{one.ink}" d="M{one.x} {one.y}{_STUBS[one.side]}"/>'
    end, at = ("7m4 -2l6 -6", one.x + 18) if one.side == "right" else ("-7m-4 -2l-6 -6", one.x - 38)
    sign = f'<g transform="translate({at} {one.y - 9})">{page.sign}</g>'
    return f'<path class="stub dot-alarm" d="M{one.x} {one.y}h{end}"/>{sign}'


def _label(card: BoxDrawing, one: SocketDrawing) -> str:
    label, tag = escape(_short(one.label, LABEL)), escape(one.tag)
    alarm = " label-alarm" if one.state == LOOSE else ""
    tone = alarm or (f" strong-{one.ink}" if one.strong else "")
    if one.side == "bottom":
        return f'<text class="socket-label{tone}" x="{one.x + 12}" y="{one.y - 9}">{label}</text>'
    y = one.y + 5
    if one.side == "right":
        beside = f'<text class="tag" x="{card.x + 11}" y="{y}">{tag}</text>' if tag else ""
        return f'<text class="socket-label{tone}" x="{one.x - 14}" y="{y}" text-anchor="end">{label}</text>{beside}'
    right = card.x + card.w - 12
    beside = f'<text class="tag{alarm}" x="{right}" y="{y}" text-anchor="end">{tag}</text>' if tag else ""
    return f'<text class="socket-label{tone}" x="{one.x + 14}" y="{y}">{label}</text>{beside}'


def _short(text: str, length: int) -> str:
    return text if len(text) <= length else text[: length - 1].rstrip() + "…"
