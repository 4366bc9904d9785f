"""Errors the product raises on purpose become a page that says what to do; no traceback reaches the person."""

from django.shortcuts import render

from hypotaxis.core.errors import HypotaxisError


def named_errors(get_response):
    """Middleware: render any HypotaxisError a view did not answer itself."""

    def middleware(request):
        return get_response(request)

    def process_exception(request, exception):
        if isinstance(exception, HypotaxisError):
            return render(request, "web/error.html", {"title": "That did not work", "reason": exception}, status=409)
        return None

    middleware.process_exception = process_exception
    return middleware
