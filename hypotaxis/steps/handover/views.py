"""The handover's pages."""

from collections.abc import Iterable
from dataclasses import dataclass
from urllib.parse import urlencode

from django.contrib import messages
from django.db import transaction
from django.http import FileResponse, Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.text import slugify

from hypotaxis.core.errors import BadPattern, CannotHandOver
from hypotaxis.core.formats.filenames import safe_name
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.formats.sheetpdf import write_sheet_pdf
from hypotaxis.core.units import clock_text, signed
from hypotaxis.records.asked import LISTED, as_uuid
from hypotaxis.records.current import InUse, in_use
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Session, Take, Track
from hypotaxis.records.models.session import title_of
from hypotaxis.records.standing import KnownTake
from hypotaxis.records.track_sound import tracks_sound
from hypotaxis.steps.handover import archive, sounds
from hypotaxis.steps.handover.forms import WishForm, fields_of
from hypotaxis.steps.handover.notes import score_file, score_of
from hypotaxis.steps.handover.page import HandoverPage
from hypotaxis.steps.handover.sheet import settings_sheet


@dataclass(frozen=True)
class FileRow:
    """A placed take as the page lists it, to be taken alone. reference: the sample at which it begins."""

    take: KnownTake
    title: str
    shift: str
    reference: int
    length: str


def home(request):
    """What is ready to hand over, and what goes in; sent, what was changed."""
    return _changed(request) if request.method == "POST" else _shown(request, in_use(request))


def _changed(request):
    here = in_use(request)
    if here.session is None:
        raise Http404
    to = request.POST.get("to", "")
    if to == "stop":
        job = archive.newest(here.session)
        if job and not job.finished:
            ask_to_cancel(str(job.uid))
        return redirect("handover:home")
    if to == "record":
        return _armed(request, here.session)
    form = _form(here, request.POST)
    if not form.is_valid():
        return _shown(request, here, form)
    here.session.handover = to_json(form.wish())
    here.session.save(update_fields=["handover"])
    if to == "make":
        try:
            archive.start(here.session, here.plan, form.wish(), token=request.POST.get("token", ""))
        except (CannotHandOver, BadPattern) as error:
            messages.error(request, str(error))
    return _shown(request, here) if request.headers.get("X-Soft") else redirect("handover:home")


@transaction.atomic
def _armed(request, session: Session):
    """Arm a track alone, and lead to where it is recorded."""
    track = session.tracks.shown().filter(uid=as_uuid(request.POST.get("track", ""))).first()
    if track is None:
        raise Http404
    session.tracks.update(armed=False)
    track.armed = True
    track.save(update_fields=["armed"])
    messages.success(request, f"{track.name} is armed alone.")
    bars = {name: as_bar(request.POST.get(name, "")) for name in ("first_bar", "last_bar")}
    return redirect(f"{reverse('session:home')}?{urlencode(bars)}")


def as_bar(text: str) -> str:
    """A bar's number out of an address, "" for anything else."""
    return text if text.isascii() and text.isdigit() and len(text) < 6 else ""


def _form(here: InUse, data=None, rows: Iterable[Track] | None = None) -> WishForm:
    tracks = [(str(track.uid), track.name) for track in rows or here.session.tracks.shown()]
    filled = fields_of(here.session.handed_over)
    filled["tracks"] = filled["tracks"] or [uid for uid, _ in tracks]
    return WishForm(data, initial=filled, tracks=tracks)


def _shown(request, here: InUse, form: WishForm | None = None):
    session = here.session
    if session is None:
        return render(request, "handover/home.html", {"session": None})
    page = HandoverPage(session, here.plan, session.handed_over)
    if request.headers.get("X-Soft") and request.method == "POST":
        return render(request, "handover/includes/parts.html", {"page": page, "form": form or _form(here)})
    takes, line, rows = page.contents.placed, page.contents.line, page.contents.tracks
    listed = takes if "files" in request.GET else takes[:LISTED]
    named = {track.uid: track for track in rows}
    context = {
        "session": session,
        "page": page,
        "form": form or _form(here, rows=rows),
        "chosen": {str(uid) for uid in page.wish.tracks},
        "line": line,
        "first_bar": line.bars + 1,
        "files": [
            FileRow(
                take,
                title_of(named[take.track], take.return_name if take.beside else ""),
                signed(take.placement, 0),
                line.reference(take.start),
                clock_text(take.frames / take.rate),
            )
            for take in listed
        ],
        "more_files": len(takes) - len(listed),
        "joined": [one for one in page.sounds.values() if one.is_joined],
        "sheet": settings_sheet(here.plan, session),
    }
    return render(request, "handover/home.html", context)


def making(request):
    """How far the archive is, polled by the page."""
    here = in_use(request)
    job = archive.newest(here.session) if here.session else None
    answer = render(request, "handover/includes/making.html", {"job": job})
    answer["X-Finished"] = "1" if job is None or job.finished else "0"
    return answer


def file(request):
    """The archive that was made last."""
    here = in_use(request)
    job = archive.newest(here.session) if here.session else None
    made = archive.came_of(job) if job else None
    if made is None:
        raise Http404
    return _download(archive.path_of(made), f"{here.session.name} handover", ".zip", "application/zip")


def sheet(request):
    """The sheet of settings, to read and to print."""
    here = in_use(request)
    return render(request, "handover/sheet.html", {"sheet": settings_sheet(here.plan, here.session)})


def sheet_pdf(request):
    """The same as PDF."""
    here = in_use(request)
    made = settings_sheet(here.plan, here.session)
    answer = HttpResponse(write_sheet_pdf(made), content_type="application/pdf")
    name = slugify(made.title) or "settings"
    answer["Content-Disposition"] = f'attachment; filename="{name}-settings.pdf"'
    return answer


def wave(request, uid):
    """A placed take as Broadcast Wave."""
    here = in_use(request)
    take = get_object_or_404(Take.objects.select_related("session", "track"), uid=uid, placement__isnull=False)
    line = sounds.time_line(take.session, here.plan)
    path = sounds.made_file(sounds.of_take(take), line, filled=request.GET.get("from") == "zero")
    return _download(path, f"{take.session.name} {take.title} take {take.number}", ".wav", "audio/wav")


def standing(request, uid):
    """What stands of a track, joined, as Broadcast Wave."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    found = tracks_sound(here.session, here.session.tracks.shown().filter(uid=uid), only_placed=True).get(uid)
    if found is None or not found.is_joined:
        raise Http404
    line = sounds.time_line(here.session, here.plan)
    path = sounds.made_file(sounds.of_track(found), line, filled=False)
    return _download(path, f"{here.session.name} {found.track.name} what stands", ".wav", "audio/wav")


def score(request):
    """The notes with program changes as SMF."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    line = sounds.time_line(here.session, here.plan)
    answer = HttpResponse(score_file(score_of(here.session, here.plan), line), content_type="audio/midi")
    answer["Content-Disposition"] = f'attachment; filename="{slugify(here.session.name) or "session"}.mid"'
    return answer


def _download(path, name: str, ending: str, kind: str) -> FileResponse:
    return FileResponse(path.open("rb"), as_attachment=True, filename=safe_name(name) + ending, content_type=kind)
