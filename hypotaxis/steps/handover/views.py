"""The handover's pages."""

from dataclasses import dataclass

from django.http import FileResponse, Http404, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.utils.text import slugify

from hypotaxis.core.formats.sheetpdf import write_sheet_pdf
from hypotaxis.core.units import clock_text, signed
from hypotaxis.records.current import in_use
from hypotaxis.records.models import Take
from hypotaxis.steps.handover import services
from hypotaxis.steps.handover.sheet import settings_sheet


@dataclass(frozen=True)
class Row:
    """A placed take as the page lists it."""

    take: Take
    shift: str
    reference: int
    length: str


def home(request):
    """What is ready to hand over."""
    here = in_use(request)
    session = here.session
    if session is None:
        return render(request, "handover/home.html", {"session": None})
    takes = services.placed_takes(session)
    line = services.line_of(session, takes)
    rows = [
        Row(
            take,
            signed(take.placement, 0),
            line.reference(take.start),
            clock_text(take.sound_file[1] / take.sample_rate),
        )
        for take in takes
    ]
    context = {
        "session": session,
        "rows": rows,
        "line": line,
        "first_bar": line.bars + 1,
        "joined": services.joined_tracks(session, takes),
        "apart": sum(bool(take.run.apart) for take in takes),
        "unplaced": session.takes.kept().filter(placement__isnull=True).count(),
    }
    return render(request, "handover/home.html", context)


def sheet(request):
    """The sheet of settings, to read and to print."""
    return render(request, "handover/sheet.html", {"sheet": settings_sheet(in_use(request))})


def sheet_pdf(request):
    """The same as PDF."""
    here = in_use(request)
    made = settings_sheet(here)
    answer = HttpResponse(write_sheet_pdf(made), content_type="application/pdf")
    name = slugify(made.title) or "settings"
    answer["Content-Disposition"] = f'attachment; filename="{name}-settings.pdf"'
    return answer


def wave(request, uid):
    """A placed take as Broadcast Wave."""
    take = get_object_or_404(Take.objects.select_related("session", "track"), uid=uid, placement__isnull=False)
    line = services.line_of(take.session, services.placed_takes(take.session))
    path = services.wave_file(take, line, from_zero=request.GET.get("from") == "zero")
    name = services.file_name(take.session, take.title, "take", take.number) + ".wav"
    return FileResponse(path.open("rb"), as_attachment=True, filename=name, content_type="audio/wav")


def standing(request, uid):
    """What stands of a track, joined, as Broadcast Wave."""
    here = in_use(request)
    takes = services.placed_takes(here.session) if here.session else []
    joined = services.joined_tracks(here.session, takes) if takes else []
    sound = next((one for one in joined if one.track.uid == uid), None)
    if sound is None:
        raise Http404
    path = services.joined_file(sound, services.line_of(here.session, takes))
    name = services.file_name(here.session, sound.track.name, "what stands") + ".wav"
    return FileResponse(path.open("rb"), as_attachment=True, filename=name, content_type="audio/wav")


def score(request):
    """The notes with program changes as SMF."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    line = services.line_of(here.session, services.placed_takes(here.session))
    answer = HttpResponse(services.score_file(here.session, here.plan, line), content_type="audio/midi")
    answer["Content-Disposition"] = f'attachment; filename="{services.file_name(here.session)}.mid"'
    return answer


def everything(request):
    """All of it as one archive."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    name = services.file_name(here.session) + ".zip"
    archive = services.everything(here.session, here.plan, write_sheet_pdf(settings_sheet(here)))
    return FileResponse(archive.open("rb"), as_attachment=True, filename=name, content_type="application/zip")
