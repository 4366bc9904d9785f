"""The page of backups: everything in one file, and the copies of the day."""

from datetime import datetime

from django.conf import settings
from django.contrib import messages
from django.http import FileResponse, Http404
from django.shortcuts import redirect, render

from hypotaxis.core.errors import CannotHandOver, DiskFull, UnreadableFile
from hypotaxis.core.units import counted
from hypotaxis.records import audio, backup, space
from hypotaxis.records.asked import whole
from hypotaxis.records.backup import copies, size_of_all
from hypotaxis.records.housekeeping import megabytes
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job
from hypotaxis.steps.handover import backing_up


def home(request):
    """What there is; sent, a backup is asked for or stopped."""
    job = backing_up.newest()
    if request.method == "POST":
        try:
            _done(request, job)
        except (CannotHandOver, UnreadableFile, DiskFull) as error:
            messages.error(request, str(error))
        return redirect("handover:backup")
    made = backing_up.made(job)
    context = {
        "job": job,
        "made": made,
        "made_mb": made.stat().st_size / 1e6 if made else 0,
        "made_at": datetime.fromtimestamp(made.stat().st_mtime) if made else None,
        "size_mb": max(0.1, size_of_all() / 1e6),
        "copies": [(one.day, one.path, one.size / 1e6) for one in copies()],
        "kept": backup.copies_kept(),
        "most": backup.MOST_COPIES,
        "waits": backup.pending().exists(),
        "command": settings.COMMAND,
        "rooms": space.rooms(),
        "left_over": len(left_over := space.left_over()),
        "left_over_mb": megabytes(left_over),
        "free_gb": audio.free_bytes() / 1e9,
    }
    return render(request, "handover/backup.html", context)


def _done(request, job: Job | None) -> None:
    to = request.POST.get("to", "")
    if to == "stop":
        if job and not job.finished:
            ask_to_cancel(str(job.uid))
    elif to == "keep":
        count = whole(request.POST.get("kept"), backup.copies_kept(), 0, backup.MOST_COPIES)
        backup.keep_copies(count)
        messages.success(request, f"{count} copies of the day are kept." if count else "No copies of the day are kept.")
    elif to == "restore":
        sent = request.FILES.get("backup")
        if sent is None:
            raise UnreadableFile("Choose the backup first: the .zip that Hypotaxis made.")
        found = backup.take_up(sent)
        messages.success(request, f"The backup of {found.made[:16].replace('T', ', ')} waits for the next start.")
    elif to == "remove":
        gone = space.remove(space.left_over())
        told = f"{counted(gone, 'file')} removed that nothing referred to." if gone else "Nothing is left over."
        messages.success(request, told)
    elif to == "not now":
        backup.pending().unlink(missing_ok=True)
        messages.info(request, "Nothing is brought back.")
    else:
        backing_up.start(token=request.POST.get("token", ""))


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
