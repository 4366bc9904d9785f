"""Panic: whatever sounds ends now."""

from django.contrib import messages
from django.shortcuts import redirect
from django.urls import reverse
from django.views.decorators.http import require_POST

from hypotaxis.records.current import asked_back
from hypotaxis.records.jobs import end_what_sounds
from hypotaxis.web.studio_startup import silence


def end_all() -> str:
    """Silence real devices by the direct way first, then end the work that played; what was done, in words."""
    silenced = silence()
    end_what_sounds()
    return "All notes are off, on every port that notes have left by." if silenced else "What played is ended."


@require_POST
def panic(request):
    """The same for a page, which comes again."""
    messages.info(request, end_all())
    return redirect(asked_back(request, reverse("rig:home")))
