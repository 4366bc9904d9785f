"""Opening an archive: sent, laid beside the rig in use, taken in."""

from django import forms
from django.contrib import messages
from django.http import Http404
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.units import counted
from hypotaxis.records.current import in_use, remember
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job
from hypotaxis.steps.handover import opening
from hypotaxis.steps.handover.opening import OWN_RIG, Beside, Opened, Wish


class ArchiveForm(forms.Form):
    """An archive to be opened."""

    archive = forms.FileField(
        label="Archive (.zip)",
        help_text="One that was made here with “The session, to open again” ticked.",
        error_messages={"required": "Choose a file first.", "empty": "The file is empty."},
    )


def home(request):
    """Choose an archive; sent, it is looked into."""
    form = ArchiveForm(request.POST or None, request.FILES or None)
    if request.method == "POST" and form.is_valid():
        try:
            file = opening.receive(form.cleaned_data["archive"])
        except UnreadableFile as error:
            form.add_error("archive", str(error))
        else:
            return redirect("handover:beside", file=file)
    return render(request, "handover/open.html", {"form": form})


def beside(request, file: str):
    """What the archive's tracks play, beside what is here; sent, it is taken in so."""
    path = opening.waiting(file)
    if path is None:
        messages.error(request, "The archive is gone meanwhile. Send it again.")
        return redirect("handover:open")
    here = in_use(request)
    try:
        with opening.archive_in(path) as archive:
            found = Beside(archive.session, archive.plan, here.plan)
    except UnreadableFile as error:
        messages.error(request, str(error))
        return redirect("handover:open")
    if request.method == "POST":
        try:
            job = opening.start(_wish(request.POST, file, here, found), token=request.POST.get("token", ""))
        except UnreadableFile as error:
            messages.error(request, str(error))
            return redirect("handover:open")
        return redirect("handover:opening", uid=job.uid)
    context = {"session": found.session, "theirs": found.theirs.rig, "found": found, "file": file, "own": OWN_RIG}
    told = f"{counted(len(found.session.tracks), 'track')}, {counted(len(found.session.takes), 'take')}"
    return render(request, "handover/beside.html", context | {"told": told, "here": here})


def _wish(asked, file: str, here, found: Beside) -> Wish:
    if asked.get("rig") == OWN_RIG:
        return Wish(file, str(here.rig.uid), own_rig=True)
    allowed = {f"{seat.instrument}/{seat.part}": seat for seat, _ in found.seats}
    seats, loops = [], []
    for place in found.places:
        if to := allowed.get(asked.get(f"seat-{place.key}", "")):
            seats.append((place.seat.instrument, place.seat.part, to.instrument, to.part))
    for uid, *_ in found.loops:
        if found.mine.loop(asked.get(f"loop-{uid}", "")):
            loops.append((uid, asked[f"loop-{uid}"]))
    return Wish(file, str(here.rig.uid), seats=tuple(seats), loops=tuple(loops))


def state(request, uid):
    """How far it is; where it is open, lead into it."""
    job = get_object_or_404(Job, uid=uid, kind=opening.KIND)
    if request.headers.get("X-Fragment"):
        answer = render(request, "web/includes/progress.html", {"job": job, "doing": "The archive is being opened"})
        answer["X-Finished"] = "1" if job.finished else "0"
        return answer
    if job.state == Job.DONE and job.result:
        opened = Opened(**job.result)
        messages.success(request, opened.told)
        answer = redirect("session:home")
        return remember(remember(answer, "rig", opened.rig), "session", opened.session)
    return render(request, "handover/opening.html", {"job": job, "file": job.request.get("file", "")})


@require_POST
def stop(request, uid):
    """Stop it; nothing of it stays."""
    ask_to_cancel(str(get_object_or_404(Job, uid=uid, kind=opening.KIND).uid))
    return redirect(reverse("handover:opening", args=[uid]))


def thrown_away(request, file: str):
    """Forget an archive that waits."""
    if request.method != "POST":
        raise Http404
    if path := opening.waiting(file):
        path.unlink(missing_ok=True)
    return redirect("handover:home")
