"""Timing: how late each instrument is, and how late recordings of one's own are."""

import io

import soundfile
from django.contrib import messages
from django.http import FileResponse, Http404, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.glass import SPANS_MS
from hypotaxis.core.drawing.soundings import PLOT_H, PLOT_W
from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.timing.pattern import loop_signal, pattern_score
from hypotaxis.core.units import clock_text
from hypotaxis.records.asked import number, whole
from hypotaxis.records.current import desk
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job, Sounding
from hypotaxis.steps.timing.forms import ChoiceForm, RenameForm, SoundingForm
from hypotaxis.steps.timing.services import picture, sounding

LOOP_RATE = 48_000


def home(request, row: Sounding | None = None, **sheet):
    """All instruments and soundings on one scale; row: the sounding opened."""
    here = desk(request)
    soundings = list(Sounding.objects.select_related("job"))
    instruments, own, marks = picture.rows_of(here.plan, soundings, row)
    context = {
        "instruments": instruments,
        "soundings": own,
        "marks": marks,
        "measured": any(one.take for one in instruments),
        "opened": row,
        "sheet": None,
    }
    if row is not None:
        context |= _opened(request, row)
    return render(request, "timing/home.html", context | sheet)


def open_sounding(request, uid):
    """One sounding opened in place."""
    return home(request, _row(uid))


def new(request):
    """Measure a recording of one's own. A page that sends by script gets errors and the next address as JSON."""
    form = SoundingForm(request.POST or None, request.FILES or None)
    by_script = "X-Fragment" in request.headers
    if request.method == "POST" and form.is_valid():
        try:
            row = sounding.start_sounding(
                form.cleaned_data["score"], form.cleaned_data["recording"], name=form.sounding_name(), **form.chosen()
            )
        except UnreadableFile as error:
            form.add_error("score", f"{form.cleaned_data['score'].name} cannot be used. {error}")
        else:
            if by_script:
                return JsonResponse({"next": _address(row)})
            return redirect(_address(row))
    if by_script and request.method == "POST":
        told = [f"{form.fields[name].label}: {text}" for name, texts in form.errors.items() for text in texts]
        return JsonResponse({"errors": told}, status=400)
    return home(request, sheet="new", form=form)


def state(request, uid):
    """State of a measurement, polled by the page."""
    row = _row(uid)
    answer = render(request, "timing/includes/state.html", _state(row))
    answer["X-Finished"] = "1" if row.job.finished else "0"
    return answer


def wave(request, uid):
    """The recording around one hit, fetched when it is zoomed or moved."""
    row = _row(uid)
    if not row.result:
        raise Http404
    return render(request, "timing/includes/wave.html", {"opened": row, "wave": _wave(request, row)} | _wave_size())


@require_POST
def again(request, uid):
    """Measure the same files with another choice of notes or side."""
    row = _row(uid)
    form = ChoiceForm(request.POST, parts=row.parts)
    if not form.is_valid():
        return home(request, row, choice_form=form)
    if row.job.finished:
        sounding.measure_again(row, **form.chosen())
    return redirect(_address(row))


@require_POST
def rename(request, uid):
    """Give a sounding another name."""
    row = _row(uid)
    form = RenameForm(request.POST)
    if form.is_valid():
        row.name = form.cleaned_data["name"]
        row.save(update_fields=["name"])
    else:
        messages.error(request, "A sounding needs a name of up to 80 letters.")
    return redirect(_address(row))


@require_POST
def cancel(request, uid):
    """Stop a measurement; the files stay."""
    row = _row(uid)
    ask_to_cancel(str(row.job_id))
    return redirect(_address(row))


@require_POST
def remove(request, uid):
    """Remove a sounding with its files."""
    row = _row(uid)
    if not row.job.finished:
        messages.error(request, "It is still being measured. Stop it first.")
        return redirect(_address(row))
    sounding.remove(row)
    messages.info(request, f"{row.name} is removed, with the copies of its two files.")
    return redirect("timing:home")


def test_score(request):
    """The test pattern as a MIDI file."""
    note = whole(request.GET.get("note"), 36, 0, 127)
    channel = whole(request.GET.get("channel"), 10, 1, 16)
    answer = HttpResponse(write_smf(pattern_score(note=note, channel=channel)), content_type="audio/midi")
    answer["Content-Disposition"] = f'attachment; filename="test-score-note-{note}-channel-{channel}.mid"'
    return answer


def loop(request):
    """The test pattern as impulses, for a loop of audio."""
    stream = io.BytesIO()
    soundfile.write(stream, loop_signal(LOOP_RATE), LOOP_RATE, format="WAV", subtype="PCM_24")
    stream.seek(0)
    return FileResponse(stream, as_attachment=True, filename="loop-signal.wav", content_type="audio/wav")


def _row(uid) -> Sounding:
    return get_object_or_404(Sounding.objects.select_related("job"), uid=uid)


def _address(row: Sounding) -> str:
    return f"{reverse('timing:open', args=[row.uid])}#opened"


def _opened(request, row: Sounding) -> dict:
    context = _state(row) | {
        "choice_form": ChoiceForm(
            parts=row.parts, initial={"track": row.track, "channel": row.channel, "side": row.side}
        ),
        "rename_form": RenameForm(initial={"name": row.name}),
        "field": "late" if request.GET.get("field") == "late" else "shift",
    }
    if row.result and row.job.finished:
        context |= {"found": picture.opened_of(row), "wave": _wave(request, row), "plot_w": PLOT_W, "plot_h": PLOT_H}
        context |= _wave_size()
    return context


def _state(row: Sounding) -> dict:
    job = row.job
    return {
        "opened": row,
        "job": job,
        "done": round(job.progress * 100, 1),
        "left": clock_text(job.remaining_s) if job.remaining_s is not None else "",
        "trouble": job.state in (Job.FAILED, Job.INTERRUPTED, Job.CANCELLED),
    }


def _wave(request, row: Sounding) -> picture.Wave:
    span = number(request.GET.get("span"), picture.WAVE_SPAN)
    return picture.wave_of(
        row,
        number=whole(request.GET.get("hit"), 0, 0, 10**7),
        span_ms=span if span in SPANS_MS else picture.WAVE_SPAN,
        offset_ms=max(-2000.0, min(2000.0, number(request.GET.get("offset"), 0.0))),
    )


def _wave_size() -> dict:
    return {"wave_w": picture.WAVE_W, "wave_h": picture.WAVE_H}
