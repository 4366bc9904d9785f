"""The instruments' pages: one line each, opened in place; the try-out."""

from dataclasses import dataclass, replace

from django.contrib import messages
from django.http import FileResponse, Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.keys import keyboard
from hypotaxis.core.drawing.levels import WIDTH, LevelBar, level_bar
from hypotaxis.core.drawing.ruler import ChannelCell, channel_cells, channels_text, layer_told
from hypotaxis.core.drawing.stations import stations
from hypotaxis.core.drawing.tried import METER_W, METER_X, VALUE_X, TriedDrawing, draw_tried
from hypotaxis.core.drawing.tried import WIDTH as TRIED_W
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.midi.programs import hexed, wire_ms
from hypotaxis.core.midi.scales import NAMES, SCALES, note_name
from hypotaxis.core.midi.shaping import Shaping, in_words
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.playing.keys import plays_and_sounds
from hypotaxis.core.playing.tryout import TryOutWish, usual_note
from hypotaxis.core.rig.build import new_uid
from hypotaxis.core.rig.sentence import Piece, trip_sentence
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.session.templates import INSTRUMENT
from hypotaxis.core.timing.applied import KnownLateness
from hypotaxis.core.units import stored_level_text
from hypotaxis.records import templates
from hypotaxis.records.asked import as_uuid, whole
from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job, Patch, PatchList
from hypotaxis.records.patch_lists import all_picked, calls_of, note_maps_of, picked, voices_of
from hypotaxis.steps.instruments.forms import InstrumentForm, ShapingForm, SoundsForm, TryOutForm
from hypotaxis.steps.instruments.services import defining, looping, patches, pieces, trying
from hypotaxis.steps.instruments.services.defining import parts_left


@dataclass(frozen=True)
class Line:
    """One instrument as its ruled line shows it."""

    instrument: Instrument
    send: str
    box: str
    home: str
    findings: list
    cells: list[ChannelCell]
    sentence: tuple[Piece, ...]
    known: KnownLateness
    sound: str = ""
    shaped: str = ""
    layer: str = ""
    channels: str = ""
    standing: str = ""
    both: str = ""

    @property
    def wrong(self) -> list:
        return [finding for finding in self.findings if finding.severity != "worth knowing"]


def home(request, opened: str = "", **sheet):
    """All instruments; opened: uid of the one shown in full."""
    here = in_use(request)
    sought = request.GET.get("find", "").strip()
    shown = [one for one in defining.in_groups(here.plan.instruments) if defining.has(one, sought)]
    patches = all_picked(shown)
    lines = [_line(here, one, patches.get((one.uid, ""))) for one in shown]
    context = {
        "lines": lines,
        "loops": looping.loop_lines(here) if not sought else [],
        "sought": sought,
        "any": bool(here.plan.instruments or here.plan.loops),
        "opened": opened,
        "sheet": None,
        "standin": True,
    }
    if opened:
        context |= _opened(here, opened)
    return render(request, "instruments/home.html", context | sheet)


def open_line(request, uid):
    """One instrument opened in place."""
    instrument_or_404(in_use(request), uid)
    return home(request, opened=str(uid))


@in_one_go
def new(request):
    """Define an instrument; what the sheet already says is filled in. ?like=INSTRUMENT: by copying another one,
    ?template=TEMPLATE: as one that was kept to begin with."""
    here = in_use(request)
    model = here.plan.instrument(request.GET.get("like", ""))
    box = request.GET.get("box") or defining.next_to_define(here.plan)
    kept = templates.found(INSTRUMENT, request.GET.get("template", ""))
    if kept:
        proposal = defining.like_template(here.plan, kept.value, request.POST.get("box") or request.GET.get("box", ""))
    else:
        proposal = defining.another(here.plan, model) if model else defining.propose(here.plan, box)
    if request.GET.get("name"):
        proposal = replace(proposal, name=request.GET["name"][:80])
    offered = {"templates": templates.of_kind(INSTRUMENT), "chosen": kept}
    return _edit(request, here, proposal, title="New instrument", button="Define it", **offered)


@in_one_go
def edit(request, uid):
    """Change an instrument's definition."""
    here = in_use(request)
    return _edit(request, here, instrument_or_404(here, uid), title="Change the instrument", button="Keep")


@require_POST
@in_one_go
def keep_template(request, uid):
    """Keep an instrument to begin with."""
    here = in_use(request)
    messages.success(request, defining.keep_template(here.plan, instrument_or_404(here, uid)))
    return redirect("instruments:open", uid=uid)


@require_POST
@in_one_go
def remove(request, uid):
    """Remove an instrument."""
    here = in_use(request)
    instrument = instrument_or_404(here, uid)
    defining.remove(here.rig, here.plan, instrument)
    messages.info(request, f"{instrument.name} is removed; its takes stay. Undo brings it back.")
    return redirect("instruments:home")


@in_one_go
def sounds(request, uid):
    """How an instrument's sounds are called up, named and noted."""
    here = in_use(request)
    value = instrument_or_404(here, uid)
    kept = patches.list_of(value)
    maps = [one.name for one in note_maps_of(kept)] if kept else []
    form = SoundsForm(request.POST or None, instrument=value, maps=maps)
    if request.method == "POST" and form.is_valid():
        defining.keep(here.rig, here.plan, replace(value, **form.cleaned_data))
        return redirect("instruments:open", uid=uid)
    return home(request, opened=str(uid), sheet="edit", form=form, title=f"{value.name}: sounds", button="Keep")


@in_one_go
def shaping(request, uid):
    """What becomes of notes that are played on an instrument."""
    here = in_use(request)
    value = instrument_or_404(here, uid)
    form = ShapingForm(request.POST or None, shaping=value.shaping)
    if request.method == "POST" and form.is_valid():
        defining.keep(here.rig, here.plan, replace(value, shaping=Shaping(**form.cleaned_data)))
        return redirect("instruments:open", uid=uid)
    return home(request, opened=str(uid), sheet="edit", form=form, title=f"{value.name}: played notes", button="Keep")


@require_POST
@in_one_go
def move(request, uid):
    """Move an instrument one line up or down."""
    here = in_use(request)
    value = instrument_or_404(here, uid)
    defining.move(here.rig, here.plan, value, up=request.POST.get("to") == "up")
    return redirect("instruments:open", uid=uid)


@require_POST
@in_one_go
def to_channel(request, uid):
    """Move an instrument to another channel, by its cell on the ruler."""
    here = in_use(request)
    value = instrument_or_404(here, uid)
    channel = whole(request.POST.get("channel"), value.channel, 1, 16)
    defining.keep(here.rig, here.plan, replace(value, channel=channel))
    return redirect(f"{reverse('instruments:open', args=[uid])}#ruler")


@require_POST
@in_one_go
def split(request, uid):
    """One instrument for each further part of its box, on the next free channels, with the same return."""
    here = in_use(request)
    value = instrument_or_404(here, uid)
    made = defining.split(here.rig, here.plan, value)
    if made:
        messages.success(
            request, f"{made} more instrument{'s' if made > 1 else ''}, a part each. Undo takes them back."
        )
    else:
        messages.info(request, "Every part of the box is an instrument already, or no channel is free.")
    return redirect("instruments:home")


@require_POST
def try_out(request, uid):
    """Start a try-out."""
    here = in_use(request)
    instrument = instrument_or_404(here, uid)
    form = TryOutForm(request.POST)
    if not form.is_valid():
        return home(request, opened=str(uid), try_form=form)
    kind = request.POST.get("kind", "note")
    asked = form.cleaned_data | {
        "kind": kind if kind in trying.KINDS else "note",
        "session": str(here.session.uid) if here.session else "",
        "hold_s": form.cleaned_data["hold_s"] or 0,
    }
    job = trying.start_tryout(here.rig, instrument.uid, TryOutWish(**asked))
    return redirect(f"{reverse('instruments:open', args=[uid])}?try={job.uid}")


def heard(request, job):
    """State of a try-out, polled by the page."""
    row = get_object_or_404(Job, uid=job, kind="try-out")
    answer = render(request, "instruments/includes/heard.html", _heard(in_use(request).plan, row))
    answer["X-Finished"] = "1" if row.finished else "0"
    return answer


@require_POST
def cancel(request, job):
    """Stop a try-out."""
    row = get_object_or_404(Job, uid=job, kind="try-out")
    ask_to_cancel(str(row.uid))
    return redirect(f"{reverse('instruments:open', args=[row.about])}?try={row.uid}")


@require_POST
def reset_meters(request, job):
    """Let go of held peaks and clip marks of a running try-out."""
    row = get_object_or_404(Job, uid=job, kind="try-out")
    trying.ask_to_reset(row)
    return redirect(f"{reverse('instruments:open', args=[row.about])}?try={row.uid}")


def plain(request, job):
    """The notes of a try-out on the plain built-in sound."""
    row = get_object_or_404(Job, uid=job, kind="try-out")
    return HttpResponse(trying.plain_wave(row), content_type="audio/wav")


def sound(request, job):
    """What came back in a try-out."""
    path = trying.sound_path(str(job))
    if not path.exists():
        raise Http404
    return FileResponse(path.open("rb"), content_type="audio/wav")


def _edit(request, here: InUse, value: Instrument, *, title: str, button: str, **more):
    known = here.plan.instrument(value.uid) is not None
    left, right = (*value.returns, "", "")[:2]
    initial = {
        "name": value.name,
        "box": value.box,
        "send": value.send,
        "channel": value.channel,
        "left": left,
        "right": right,
        "home_trim_db": value.home_trim_db,
        "inverted": value.inverted,
    }
    form = InstrumentForm(request.POST or None, plan=here.plan, instrument=value if known else None, initial=initial)
    form.of_new = not known
    if request.method == "POST" and form.is_valid():
        chosen = form.cleaned_data
        instrument = replace(
            value,
            uid=value.uid if known else new_uid(),
            returns=form.inputs(),
            **{name: chosen[name] for name in ("name", "box", "send", "channel", "home_trim_db", "inverted")},
        )
        if not known and chosen["box"] != value.box:
            # Proposed for another box than was chosen in the end.
            instrument = replace(instrument, further=(), voices=())
        defining.keep(here.rig, here.plan, instrument)
        if not known:
            plan = replace(here.plan, instruments=(*here.plan.instruments, instrument))
            messages.success(request, f"{instrument.name} is defined. {defining.to_set(plan, instrument)}")
        return redirect("instruments:open", uid=instrument.uid)
    opened = value.uid if known else ""
    shown = {"sheet": "edit" if known else "new", "form": form, "title": title, "button": button}
    return home(request, opened=opened, **shown | more)


def _line(here: InUse, instrument: Instrument, patch: Patch | None) -> Line:
    rig = here.plan.rig
    box = rig.box(instrument.box)
    cells = channel_cells(here.plan, instrument.send, instrument.uid)
    return Line(
        instrument=instrument,
        send=rig.socket_text(instrument.send) if rig.find(instrument.send) else "",
        box=box.name if box else "a box that is gone",
        home=", ".join(
            [
                returns_text(rig, instrument.returns) + (", inverted" if instrument.inverted else ""),
                *(f"{back.name} on {returns_text(rig, back.inputs)}" for back in instrument.further),
            ]
        ),
        findings=here.findings_about(instrument.uid),
        cells=cells,
        sentence=trip_sentence(rig, instrument),
        known=here.latenesses.known[instrument.uid],
        sound=f"{patch.number} {patch.name}" if patch else "",
        shaped=in_words(instrument.shaping),
        layer=layer_told(cells),
        both=plays_and_sounds(here.plan, instrument),
        standing=", ".join(
            f"{rig.socket_text(port) if rig.find(port) else 'a port that is gone'}"
            f"{f' on channel {channel}' if channel else ''}"
            for port, channel in instrument.standing
        ),
        channels=channels_text(seat.channel for seat in instrument.seats),
    )


def _opened(here: InUse, uid: str) -> dict:
    instrument = here.plan.instrument(uid)
    part = instrument.seat(here.request.GET.get("part", "")).part
    patch, kept = picked(instrument, part), patches.list_of(instrument)
    called = [data for _, data in calls_of(instrument)]
    arrives = here.plan.rig.find(instrument.returns[0]) if instrument.returns else None
    context = {
        "home_box": arrives[0] if arrives else None,
        "try_form": TryOutForm(initial={"note": usual_note(here.plan, instrument)}),
        "patch": patch,
        "marks": [("favourite", patch.favourite, "Favourite"), ("checked", patch.checked, "Checked by ear")]
        if patch
        else [],
        "patch_list": kept,
        "patch_lists": PatchList.objects.all(),
        "rows": patches.at_hand(kept) if kept else [],
        "calls": hexed(called) if patch else "",
        "calls_ms": wire_ms(called) if patch else 0,
        "parts": parts_left(here.plan, instrument),
        "part": part,
        "seats": pieces.seat_rows(here.plan, instrument),
        "homes": pieces.return_rows(here.plan, instrument),
        "lanes": pieces.lanes_text(here.plan, instrument),
    } | _played(here, instrument)
    context |= _untried(here.plan, instrument)
    job = Job.objects.filter(kind="try-out", uid=as_uuid(here.request.GET.get("try", ""))).first()
    if job and job.about == uid:
        context |= {"try_job": job} | _heard(here.plan, job)
        context["try_form"] = TryOutForm(initial=to_json(trying.wish_of(job)))
    return context


def _played(here: InUse, instrument: Instrument) -> dict:
    """What an instrument is tried on: pads where its notes are named, keys otherwise."""
    scale = here.request.GET.get("scale", "all notes")
    scale = scale if scale in SCALES else "all notes"
    root, first = whole(here.request.GET.get("root"), 0, 0, 11), whole(here.request.GET.get("first"), 48, 0, 91)
    return {
        "pads": [(one, note_name(one.note, instrument.middle_c)) for one in voices_of(instrument)],
        "keys": keyboard(first, middle_c=instrument.middle_c, root=root, scale=scale),
        "scale": scale,
        "scales": list(SCALES),
        "root": root,
        "roots": list(enumerate(NAMES)),
        "first": first,
    }


@dataclass(frozen=True)
class HeardRow:
    """An input of a try-out that is none of the instrument's own, as its row shows it."""

    name: str
    bar: LevelBar
    peak: str
    moved: bool


def _heard(plan: Plan, job: Job) -> dict:
    """What a try-out shows: its trip with the meters of its returns, the other inputs and the verdict."""
    wish, heard = trying.wish_of(job), trying.heard_of(job)
    rows = [
        HeardRow(
            one.name,
            level_bar(one.level, one.peak, one.clips > 0, wish.aim_db),
            stored_level_text(one.peak),
            one.moved,
        )
        for one in heard.inputs
        if not one.mine
    ]
    context = {"job": job, "wish": wish, "result": heard, "inputs": rows, "meter_width": WIDTH}
    instrument = plan.instrument(job.about)
    if instrument:
        row = stations(plan, instrument, left=bool(heard.bytes), moved=heard.moved, ended=job.state == Job.DONE)
        # What is over has died away: then the bar stands at the highest.
        inputs = [replace(one, level=one.peak) if job.finished else one for one in heard.inputs]
        context |= _drawn(instrument, draw_tried(row, inputs, wish.aim_db))
        context["stop"] = next((one for one in row if one.stops), None)
    return context


def _untried(plan: Plan, instrument: Instrument) -> dict:
    """The trip before anything has been played."""
    row = stations(plan, instrument, left=False, moved=(), ended=False)
    return _drawn(instrument, draw_tried(row, ()))


def _drawn(instrument: Instrument, drawing: TriedDrawing) -> dict:
    return {
        "tried": drawing,
        "tried_of": instrument,
        "tried_w": TRIED_W,
        "meter_x": METER_X,
        "meter_w": METER_W,
        "value_x": VALUE_X,
    }


def instrument_or_404(here: InUse, uid) -> Instrument:
    """An instrument of the rig."""
    value = here.plan.instrument(str(uid))
    if value is None:
        raise Http404
    return value
