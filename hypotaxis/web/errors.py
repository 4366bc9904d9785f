"""Pages for what is not there, went stale or broke."""

from django.shortcuts import render


def not_found(request, exception=None):
    """404."""
    reason = "There is nothing under this address. It may have been removed; go back to one of the steps above."
    return render(request, "web/error.html", {"title": "Not here", "reason": reason}, status=404)


def broken(request):
    """500: the log has the details."""
    reason = (
        "Something went wrong in Hypotaxis itself. Nothing that was saved is lost. The details are in "
        "hypotaxis.log in the data folder; go back and try again."
    )
    return render(request, "web/broken.html", {"title": "An error of ours", "reason": reason}, status=500)


def stale_form(request, reason=""):
    """403: the form's protection against foreign pages did not match."""
    told = "This page was open for too long or in another browser window. Go back, reload it, and send it again."
    return render(request, "web/error.html", {"title": "The page is out of date", "reason": told}, status=403)
