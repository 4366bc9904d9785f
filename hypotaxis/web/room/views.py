"""The room's pages: the owner's switch, and the way in for a device of the room."""

import segno
from django.conf import settings
from django.contrib import messages
from django.core.wsgi import get_wsgi_application
from django.http import HttpResponseRedirect
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.safestring import mark_safe
from django.views.decorators.http import require_POST

from hypotaxis.core.errors import NotLetIn, RoomTrouble
from hypotaxis.core.room import LASTS_S, LONGEST_NAME
from hypotaxis.web.room.door import addresses, door
from hypotaxis.web.room.gate import COOKIE

JUST_NOW_S = 5.0


def home(request):
    """Whether it is open; and, sent, opened, closed, or a device ended."""
    if request.method == "POST":
        return _done(request)
    room = door.room
    context = {"door": door, "addresses": addresses(), "proxy": settings.PROXY, "room": room}
    if room:
        context |= {"code": _code(f"{door.url}{reverse('room:enter')}#{room.words.replace(' ', '-')}")}
        context["devices"] = [(one, _ago(room.ago_s(one.seen)), _ago(room.ago_s(one.since))) for one in room.devices]
    return render(request, "room/home.html", context)


def _done(request):
    to = request.POST.get("to", "")
    if to == "open":
        everything = request.POST.get("everything") == "on"
        port = int(request.META.get("SERVER_PORT", "80"))
        try:
            door.open(request.POST.get("address", ""), port, get_wsgi_application(), everything=everything)
        except RoomTrouble as error:
            messages.error(request, str(error))
    elif to == "close":
        door.close()
        messages.info(request, "It is closed. Every device is ended, and the passphrase counts no more.")
    elif to == "end" and door.room:
        door.room.end(request.POST.get("device", ""))
        messages.info(request, "That device is ended. It can come in again with the passphrase.")
    return redirect("room:home")


def enter(request):
    """The way in, for a device of the room."""
    told, name = "", request.POST.get("name", "")[:LONGEST_NAME]
    if not request.from_room:
        return redirect("room:home")
    if request.method == "POST":
        try:
            key = door.room.enter(request.POST.get("words", ""), name=name, address=request.META.get("REMOTE_ADDR", ""))
        except NotLetIn as error:
            told = str(error)
        else:
            return _let_in(request, key)
    status = 403 if told else 200
    return render(request, "room/enter.html", {"told": told, "name": name or _guess(request)}, status=status)


def _let_in(request, key: str) -> HttpResponseRedirect:
    answer = redirect("stand:home")
    answer.set_cookie(COOKIE, key, max_age=int(LASTS_S), httponly=True, samesite="Strict", secure=request.is_secure())
    return answer


@require_POST
def leave(request):
    """A device goes by itself."""
    device = door.room.device(request.COOKIES.get(COOKIE, "")) if door.room else None
    if device:
        door.room.end(device.uid)
    answer = redirect("room:enter")
    answer.delete_cookie(COOKIE, samesite="Strict")
    return answer


def _guess(request) -> str:
    agent = request.headers.get("User-Agent", "")
    return "Phone" if "Mobi" in agent else "Tablet" if "Android" in agent or "iPad" in agent else "Computer"


def _ago(seconds: float) -> str:
    if seconds < JUST_NOW_S:
        return "now"
    return f"{seconds:.0f} s ago" if seconds < 60 else f"{seconds / 60:.0f} min ago"


def _code(address: str) -> str:
    """A QR code (ISO/IEC 18004) as a picture of its own, which the server alone makes."""
    return mark_safe(segno.make(address, error="m").svg_inline(scale=5, border=2, dark="#18212B", light="#FBFCF8"))
