"""Panic: whatever sounds ends now."""

from django.contrib import messages
from django.shortcuts import redirect
from django.urls import reverse
from django.views.decorators.http import require_POST

from hypotaxis.records.current import asked_back
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job
from hypotaxis.web.studio_startup import silence

SOUNDING = ("pass", "try-out", "sounding", "sounds", "listening", "asking", "proving", "playing in", "playing freely")
"""Work that sends to the studio."""


@require_POST
def panic(request):
    """Silence real devices by the direct way first, then end the work that played."""
    silenced = silence()
    running = Job.objects.filter(kind__in=SOUNDING, state__in=Job.UNFINISHED)
    for job in running:
        ask_to_cancel(str(job.uid))
    told = "All notes are off, on every port that notes have left by." if silenced else "What played is ended."
    messages.info(request, told)
    target = asked_back(request, reverse("rig:home"))
    return redirect(target)
