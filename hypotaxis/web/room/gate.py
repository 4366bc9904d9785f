"""Before anything else is asked: where does a request come from, by which name, and may it?"""

from urllib.parse import urlsplit

from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import Resolver404, resolve

from hypotaxis.core.room import may
from hypotaxis.web.room.door import MARK, door

COOKIE = "hypotaxis-room"
WRONG_NAME = "Hypotaxis does not answer by this name."


def gate(get_response):
    """Middleware: the owner's requests go on; those of the room only while it is open, by its own name, from a device
    that was let in, and to what it may do."""

    def middleware(request: HttpRequest) -> HttpResponse:
        request.from_room = is_from_room(request)
        name = request.META.get("HTTP_HOST", "")
        if request.from_room != _is_rooms_name(name):
            return HttpResponse(WRONG_NAME, status=400, content_type="text/plain; charset=utf-8")
        if not request.from_room:
            return get_response(request)
        answer = _of_the_room(request) or get_response(request)
        if not request.is_secure():
            # Browsers complain of this one over plain http, where it does nothing.
            answer["Cross-Origin-Opener-Policy"] = "unsafe-none"
        return answer

    return middleware


def is_from_room(request: HttpRequest) -> bool:
    """Whether it came by the room's own door, or through the proxy in front."""
    by_proxy = bool(settings.PROXY) and request.META.get("HTTP_HOST", "") == urlsplit(settings.PROXY).netloc
    return bool(request.META.get(MARK)) or by_proxy


def _is_rooms_name(name: str) -> bool:
    names = {door.host, urlsplit(settings.PROXY).netloc} - {""}
    return name in names


def _of_the_room(request: HttpRequest) -> HttpResponse | None:
    """Why it goes no further; None where it does."""
    room = door.room
    if room is None or request.META["HTTP_HOST"] != door.host:
        return HttpResponse("It is closed.", status=403, content_type="text/plain; charset=utf-8")
    # Whatever goes wrong from here on, no frame with the owner's rig is drawn around it.
    request._bare = True
    if request.path.startswith(settings.STATIC_URL):
        return None
    try:
        match = resolve(request.path_info)
    except Resolver404:
        return render(request, "room/refused.html", {"reason": "There is nothing under this address."}, status=404)
    if match.view_name == "room:enter":
        return None
    if room.device(request.COOKIES.get(COOKIE, "")) is None:
        if request.headers.get("X-Fragment"):
            return JsonResponse({"told": "This device is not let in any more."}, status=401)
        return redirect("room:enter")
    if not may(match.view_name, everything=door.everything):
        if match.view_name in ("rig:home", "") or request.path_info == "/":
            return redirect("stand:home")
        reason = "From the room you can play and record. Rig and files are changed at the computer itself, unless its "
        return render(request, "room/refused.html", {"reason": f"{reason}owner allows it."}, status=403)
    request._bare = not door.everything
    return None
