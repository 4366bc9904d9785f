"""The page of backups: everything in one file, and the copies of the day."""

from datetime import datetime

from django.conf import settings
from django.contrib import messages
from django.http import FileResponse, Http404
from django.shortcuts import redirect, render

from hypotaxis.core.errors import CannotHandOver
from hypotaxis.records.backup import copies, size_of_all
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.steps.handover import backing_up


def home(request):
    """What there is; sent, a backup is asked for or stopped."""
    job = backing_up.newest()
    if request.method == "POST":
        if request.POST.get("to") == "stop":
            if job and not job.finished:
                ask_to_cancel(str(job.uid))
        else:
            try:
                backing_up.start(token=request.POST.get("token", ""))
            except CannotHandOver as error:
                messages.error(request, str(error))
        return redirect("handover:backup")
    made = backing_up.made(job)
    context = {
        "job": job,
        "made": made,
        "made_mb": made.stat().st_size / 1e6 if made else 0,
        "made_at": datetime.fromtimestamp(made.stat().st_mtime) if made else None,
        "size_mb": size_of_all() / 1e6,
        "copies": [(one.day, one.path, one.size / 1e6) for one in copies()],
        "kept": settings.COPIES_KEPT,
    }
    return render(request, "handover/backup.html", context)


def state(request):
    """How far it is, polled by the page."""
    job = backing_up.newest()
    answer = render(request, "web/includes/progress.html", {"job": job, "doing": "The backup is being made"})
    answer["X-Finished"] = "1" if job is None or job.finished else "0"
    return answer


def file(request):
    """The backup that was made last."""
    path = backing_up.made(backing_up.newest())
    if path is None:
        raise Http404
    made = datetime.fromtimestamp(path.stat().st_mtime)
    name = f"hypotaxis-{made:%Y-%m-%d}.zip"
    return FileResponse(path.open("rb"), as_attachment=True, filename=name, content_type="application/zip")
