"""Errors the product raises on purpose become a page that says what to do; a window goes on with the rig it shows."""

import logging

from django.middleware.gzip import GZipMiddleware
from django.shortcuts import render

from hypotaxis.core.errors import Gone, HypotaxisError
from hypotaxis.records.current import remember
from hypotaxis.records.stamps import one_look
from hypotaxis.records.trouble import told_of

log = logging.getLogger(__name__)
LEAST_COMPRESSED = 10_000
"""Bytes of an answer from which it is worth it."""


def named_errors(get_response):
    """Middleware: render any HypotaxisError a view did not answer itself, and what the disk or the database refuse."""

    def middleware(request):
        return get_response(request)

    def process_exception(request, exception):
        if isinstance(exception, HypotaxisError):
            # Of what is gone no frame can be drawn.
            request._bare = getattr(request, "_bare", False) or isinstance(exception, Gone)
            return render(request, "web/error.html", {"title": "That did not work", "reason": exception}, status=409)
        if told := told_of(exception):
            log.exception("%s could not be answered", request.path)
            # A frame would ask the database again.
            request._bare = True
            return render(request, "web/broken.html", {"title": "That did not work", "reason": told}, status=503)
        return None

    middleware.process_exception = process_exception
    return middleware


class Compressed(GZipMiddleware):
    """Pages and answers of some length, compressed; never what is streamed or answered in ranges: sound, archives.

    Django's masks the token of forms anew in each answer and pads by chance, as it must where secrets are compressed.
    """

    TEXT = ("text/", "application/json", "image/svg+xml")

    def process_response(self, request, response):
        if response.streaming or len(response.content) < LEAST_COMPRESSED:
            return response
        if not response.get("Content-Type", "").startswith(self.TEXT):
            return response
        return super().process_response(request, response)


def reads_once(get_response):
    """Middleware: a page that only shows asks once whether anything has changed."""

    def middleware(request):
        if request.method not in ("GET", "HEAD"):
            return get_response(request)
        with one_look():
            return get_response(request)

    return middleware


def same_window(get_response):
    """Middleware: after a form was sent, the next page shows the rig and session that the form was of, whatever another
    window has chosen meanwhile."""

    def middleware(request):
        answer = get_response(request)
        if request.method == "POST":
            for what in ("rig", "session"):
                name, shown = f"hypotaxis-{what}", request.POST.get(f"of_{what}", "")
                if shown and name not in answer.cookies and request.COOKIES.get(name, "") != shown[:36]:
                    remember(answer, what, shown[:36])
        return answer

    return middleware
