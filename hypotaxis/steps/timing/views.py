"""Timing: how late each instrument is, and how late recordings of one's own are."""

import io

import soundfile
from django.contrib import messages
from django.db.models import Q
from django.http import FileResponse, Http404, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.text import slugify
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.glass import SPANS_MS
from hypotaxis.core.drawing.load import HEIGHT as LOAD_H
from hypotaxis.core.drawing.load import WIDTH as LOAD_W
from hypotaxis.core.drawing.soundings import PLOT_H, PLOT_W
from hypotaxis.core.errors import CannotSchedule, UnreadableFile
from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.playing.tryout import usual_note
from hypotaxis.core.rig.change import set_rig
from hypotaxis.core.rig.values import TOGETHER
from hypotaxis.core.timing.context import context_of, context_of_loop
from hypotaxis.core.timing.pattern import loop_signal, pattern_score
from hypotaxis.core.units import clock_text
from hypotaxis.records.asked import number, whole
from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.records.journal import change_plan
from hypotaxis.records.lateness import unfinished
from hypotaxis.records.models import Job, Patch, Sounding
from hypotaxis.steps.timing.forms import ChoiceForm, RenameForm, SoundingForm, TakeForm, TypedForm
from hypotaxis.steps.timing.services import picture, rows, sounding, taking
from hypotaxis.steps.timing.services.opened_trip import dependence, opened_trip
from hypotaxis.steps.timing.services.wires import LIMIT_MS, waits_by_instrument, wires_of

LOOP_RATE = 48_000
MOST_PATCHES = 400
"""Sounds offered for a sounding; longer lists are searched on the Instruments step."""


def home(request, row: Sounding | None = None, trip: str = "", **sheet):
    """All trips and recordings on one scale. row: the sounding that is looked at; trip: the uid of the instrument or
    effect loop that is opened."""
    here = in_use(request)
    own = list(Sounding.objects.figures().filter(instrument_uid="", loop_uid="").select_related("job"))
    waits_ms = waits_by_instrument(here.plan, here.session)
    trips, recordings, marks = rows.rows_of(here.plan, here.latenesses, own, row, waits_ms)
    opened = next((one for one in trips if one.uid == trip), None)
    context = {
        "trips": trips,
        "together": rows.together_of(here.plan, trips, marks.end_ms),
        "modes": TOGETHER,
        "soundings": recordings,
        "marks": marks,
        "opened": row,
        "trip": opened,
        "sheet": None,
        "take_form": TakeForm(patches=_patches(here.plan, trip), initial=_asked_before(here, trip)),
        "queue": _queue(here.plan),
        "choices": taking.every_trip(here.plan),
    }
    if opened:
        context["wait_ms"] = waits_ms.get(trip)
        instrument = here.plan.instrument(trip)
        if instrument:
            context["test_note"], context["test_channel"] = usual_note(here.plan, instrument), instrument.channel
        context["of_trip"] = opened_trip(
            here.plan, opened, _context_now(here.plan, trip), row, every="every" in request.GET
        )
        context["typed_form"] = TypedForm(
            initial={"lateness_ms": opened.known.lateness_ms if opened.known.source == "typed" else None}
        )
    if row is not None:
        context |= _opened(request, row)
        context["depends"] = dependence(here.plan, row, here.latenesses.known)
    return render(request, "timing/home.html", context | sheet)


def trip(request, uid):
    """A trip opened in place, with its newest sounding."""
    here = in_use(request)
    _one_of(here.plan, str(uid))
    newest = Sounding.objects.filter(Q(instrument_uid=str(uid)) | Q(loop_uid=str(uid)), rig=here.rig)
    return home(request, newest.select_related("job").first(), str(uid))


def open_sounding(request, uid):
    """One sounding opened in place: in its trip, where that is in the rig."""
    row = _row(uid)
    mine = row.instrument_uid or row.loop_uid
    plan = in_use(request).plan
    return home(request, row, mine if plan.instrument(mine) or plan.loop(mine) else "")


def new(request):
    """Measure a recording of one's own. A page that sends by script gets errors and the next address as JSON."""
    here = in_use(request)
    known = {"instrument": request.GET.get("instrument", "")}
    form = SoundingForm(request.POST or None, request.FILES or None, plan=here.plan, initial=known)
    by_script = "X-Fragment" in request.headers
    if request.method == "POST" and form.is_valid():
        try:
            row = sounding.start_sounding(
                _score_of(form),
                form.cleaned_data["recording"],
                name=form.sounding_name(),
                mine=_mine(here, form.cleaned_data["instrument"]),
                token=request.POST.get("token", ""),
                **form.chosen(),
            )
        except UnreadableFile as error:
            wrong = "score" if form.cleaned_data["score"] else "recording"
            form.add_error(wrong, f"{form.cleaned_data[wrong].name} cannot be used. {error}")
        else:
            if by_script:
                return JsonResponse({"next": _address(row)})
            return redirect(_address(row))
    if by_script and request.method == "POST":
        told = [f"{form.fields[name].label}: {text}" for name, texts in form.errors.items() for text in texts]
        return JsonResponse({"errors": told}, status=400)
    return home(request, sheet="new", form=form)


@require_POST
def take(request):
    """Take a sounding of one trip, or of all in a row."""
    here = in_use(request)
    wanted = request.POST.get("trip", "")
    uid = wanted.partition("/")[0]
    form = TakeForm(request.POST, patches=_patches(here.plan, uid))
    if not form.is_valid():
        return home(request, trip=uid, take_form=form)
    every = taking.trips_of(here.plan)
    try:
        if "all" in request.POST:
            chosen = [one for one in every if taking.can_sound(here.plan, one)]
            asked = form.wish()
            wish = {name: asked[name] for name in ("hits", "fast")}
        else:
            chosen, wish = [_trip_named(here.plan, wanted)], form.wish()
        if not chosen:
            raise CannotSchedule("No instrument has a way out and home yet.")
        started = taking.start(here.rig, here.plan, chosen, token=request.POST.get("token", ""), **wish)
    except CannotSchedule as error:
        messages.error(request, str(error))
        return redirect("timing:home")
    return redirect(_address(started[0]))


@require_POST
@in_one_go
def typed(request, uid):
    """Keep a lateness that the owner knows from elsewhere, or let what was measured count again."""
    here = in_use(request)
    one = _one_of(here.plan, str(uid))
    form = TypedForm(request.POST)
    if not form.is_valid():
        return home(request, trip=str(uid), typed_form=form)
    sounding.type_lateness(here.rig, here.plan, one, form.cleaned_data["lateness_ms"])
    return redirect(f"{reverse('timing:trip', args=[uid])}#opened")


def wires(request):
    """Every DIN wire while the session plays. ?wire=UID opens one, with what would help; ?limit=: ms that are late."""
    here = in_use(request)
    limit = min(1000.0, max(0.0, number(request.GET.get("limit"), LIMIT_MS)))
    opened = request.GET.get("wire", "")
    context = {"limit": limit, "opened": opened, "load_w": LOAD_W, "load_h": LOAD_H}
    if here.session:
        context["found"] = wires_of(here.plan, here.session, limit_ms=limit, opened=opened)
    return render(request, "timing/wires.html", context)


def running(request):
    """The soundings that wait or run, polled by the page."""
    queue = _queue(in_use(request).plan)
    answer = render(request, "timing/includes/queue.html", {"queue": queue})
    answer["X-Finished"] = "0" if queue else "1"
    return answer


@require_POST
@in_one_go
def together(request):
    """Choose how instruments of different lateness are brought together while they play."""
    here = in_use(request)
    mode = request.POST.get("mode", "")
    if mode in TOGETHER and mode != here.plan.rig.together:
        change_plan(here.rig, f"playing together: {mode}", here.plan, set_rig(here.plan, together=mode))
    return redirect(f"{reverse('timing:home')}#together")


@require_POST
def stop_all(request):
    """Stop every sounding that waits or runs; what was measured stays."""
    for row in unfinished(in_use(request).plan):
        taking.stop(row)
    return redirect("timing:home")


def state(request, uid):
    """State of a measurement, polled by the page."""
    row = _row(uid)
    answer = render(request, "timing/includes/state.html", _state(row))
    answer["X-Finished"] = "1" if row.job.finished else "0"
    return answer


def wave(request, uid):
    """The recording around one hit, fetched when it is zoomed or moved."""
    row = _row(uid)
    if row.measurement is None:
        raise Http404
    return render(request, "timing/includes/wave.html", {"opened": row, "wave": _wave(request, row)} | _wave_size())


def aligned(request, uid):
    """The recording with its sound where the score says. ?rate=corrected: with its drift taken out."""
    row = _row(uid)
    if row.measurement is None:
        raise Http404
    corrected = request.GET.get("rate") == "corrected" and bool(row.measured.drift_ppm)
    path = sounding.aligned_file(row, corrected=corrected)
    name = f"{slugify(row.name) or 'recording'}-aligned.wav"
    return FileResponse(path.open("rb"), as_attachment=True, filename=name, content_type="audio/wav")


@require_POST
def again(request, uid):
    """Measure the same files with another choice of notes or side."""
    row = _row(uid)
    form = ChoiceForm(request.POST, parts=row.parts)
    if not row.recording:
        messages.error(
            request, f"Nothing was recorded of {row.name} yet, so there is nothing to measure. Take it again."
        )
        return redirect(_address(row))
    if not form.is_valid():
        return home(request, row, choice_form=form)
    if row.job.finished:
        sounding.measure_again(row, **form.chosen())
    return redirect(_address(row))


@require_POST
def retake(request, uid):
    """Take a sounding of the studio once more that ended without a recording."""
    row = _row(uid)
    if row.studio and not row.recording and row.job.finished:
        taking.take_again(row)
    return redirect(_address(row))


@require_POST
def compare(request, uid):
    """Lay a sounding's recording over another one's."""
    row = _row(uid)
    other = next((one for one in sounding.others_to_compare(row) if str(one.uid) == request.POST.get("other")), None)
    if other is None:
        messages.error(request, "Choose the recording to compare with.")
    elif row.job.finished:
        sounding.compare_with(row, other)
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
    """Stop a measurement; the files stay. A sounding that has not begun is gone."""
    row = _row(uid)
    return redirect("timing:home") if taking.stop(row) else redirect(_address(row))


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


def _score_of(form: SoundingForm):
    """The score that was chosen, or a grid in its place."""
    chosen = form.cleaned_data
    if not chosen["step"]:
        return chosen["score"]
    return sounding.Grid(chosen["step"], chosen["bpm"])


def _one_of(plan: Plan, uid: str) -> Instrument | Loop:
    found = plan.instrument(uid) or plan.loop(uid)
    if found is None:
        raise Http404
    return found


def _asked_before(here: InUse, uid: str) -> dict:
    one = here.plan.instrument(uid) or here.plan.loop(uid)
    return taking.last_wish(here.rig, taking.SoundedTrip.of(one)) if one else {}


def _trip_named(plan: Plan, key: str) -> taking.SoundedTrip:
    one = _one_of(plan, key.partition("/")[0])
    found = next((trip for trip in taking.SoundedTrip.every(one) if trip.key == key), None)
    if found is None:
        raise Http404
    return found


def _context_now(plan: Plan, uid: str) -> dict[str, str]:
    one = _one_of(plan, uid)
    return context_of_loop(plan, one) if isinstance(one, Loop) else context_of(plan, one)


def _mine(here: InUse, uid: str) -> dict:
    """Fields of a sounding that belongs to an instrument."""
    one = here.plan.instrument(uid)
    if one is None:
        return {}
    return {"rig": here.rig, "instrument_uid": uid, "context": context_of(here.plan, one)}


def _patches(plan: Plan, uid: str) -> list[tuple[str, str]]:
    """Sounds that may be called up for a sounding of an instrument, as (uid, name)."""
    one = plan.instrument(uid)
    rows = Patch.objects.filter(list__uid=one.patch_list or None)[:MOST_PATCHES] if one else ()
    return [(str(patch.uid), f"{patch.number} {patch.name}") for patch in rows]


def _queue(plan: Plan) -> dict | None:
    """What is told of the soundings that wait or run; None when there are none."""
    waiting = unfinished(plan)
    if not waiting:
        return None
    first, job = waiting[0], waiting[0].job
    return {
        "name": first.name,
        "more": len(waiting) - 1,
        "done": round(job.progress * 100, 1),
        "left": clock_text(job.remaining_s) if job.remaining_s is not None else "",
    }


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
        "others": sounding.others_to_compare(row) if row.job.finished else [],
        "difference": picture.difference_of(row),
    }
    if row.measurement and row.job.finished:
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
