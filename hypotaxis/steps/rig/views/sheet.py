"""The out-and-back sheet: choosing, adding, cabling."""

from itertools import pairwise

from django.contrib import messages
from django.http import Http404
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.safestring import SafeString
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.guide import draw_guide
from hypotaxis.core.drawing.sheet import SheetDrawing, draw_sheet, still_free
from hypotaxis.core.errors import DoesNotFit, NothingToUndo
from hypotaxis.core.findings.finding import alike, listed
from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.beginning import LAST, next_move
from hypotaxis.core.rig.levels import advice, levels_along
from hypotaxis.core.rig.plug import fitting, kind_of_cable, pair_of
from hypotaxis.core.rig.ports import channel_count, host_direction, is_port, keys_in, ports_of
from hypotaxis.core.rig.search import search
from hypotaxis.core.rig.sentence import trip_sentence
from hypotaxis.core.rig.shapes import is_interface
from hypotaxis.core.rig.trips import heard_from, recording_interface, trip_of
from hypotaxis.core.rig.values import Cable, Rig
from hypotaxis.core.units import signed
from hypotaxis.records import journal
from hypotaxis.records.asked import whole
from hypotaxis.records.current import InUse, asked_back, findings_of, in_one_go, in_use, remember
from hypotaxis.records.models import Job
from hypotaxis.steps.rig import services
from hypotaxis.steps.rig.forms import AddBoxForm, ConnectForm, EditCableForm
from hypotaxis.steps.rig.markup import sheet_parts

STRIP_FINDINGS = 12


def home(request, preview: Plan | None = None, changed: frozenset[str] = frozenset(), **sheet):
    """The sheet. ?at=SOCKET selects what hangs on a socket, ?trip=INSTRUMENT a trip. preview: a plan to draw instead of
    the one that is kept, with what is changed drawn strong; sheet: what opens beside it."""
    here = in_use(request)
    rig = here.plan.rig
    at = request.GET.get("at", "")
    picked = rig.find(at)
    instrument = here.plan.instrument(request.GET.get("trip", ""))
    if instrument is None and picked:
        instrument = next((i for i in here.plan.instruments if at in trip_of(rig, i).sockets), None)
    trip = trip_of(rig, instrument) if instrument else None
    sought = request.GET.get("find", "").strip()
    marked = search(rig, sought)
    fit = fitting(rig, at) if picked and picked[1].pluggable else frozenset()
    plan, strong = preview or here.plan, marked | changed
    if preview or strong or fit or trip or picked:
        told = {"trip": None if fit else trip, "socket": at if picked else "", "marked": strong, "fitting": fit}
        drawing = draw_sheet(plan, here.findings, **told)
        parts = sheet_parts(drawing, picked=at if picked else "", fitting=fit)
    else:
        drawing, parts = _plain(plan)
    groups = alike(here.findings)
    context = {
        "drawing": drawing,
        "parts": parts,
        "guide": _guide(here, drawing),
        "last_move": LAST,
        "sought": sought,
        "hits": len(marked),
        "findings": groups if request.GET.get("all") else groups[:STRIP_FINDINGS],
        "more_findings": 0 if request.GET.get("all") else sum(1 + len(others) for _, others in groups[STRIP_FINDINGS:]),
        "meant": here.meant,
        "box_uids": {box.uid for box in rig.boxes},
        "rig_uid": rig.uid,
        "free": still_free(rig),
        "counts": _counts(here.plan),
        "empty": all(box.shape == "host" for box in rig.boxes),
        "picked": _picked(rig, at) if picked else None,
        "fitting": fit,
        "partner": _partner(rig, at) if picked else None,
        "heard": _heard(here.plan, at, request) if picked else None,
        "instrument": instrument,
        "late": here.latenesses.known[instrument.uid] if instrument else None,
        "sentence": trip_sentence(rig, instrument) if instrument else (),
        "levels": _levels(rig, instrument),
        "sheet": None,
    }
    answer = render(request, "rig/home.html", context | sheet)
    return remember(answer, "guide", "off") if request.GET.get("guide") == "off" else answer


@kept_with_it
def _plain(plan: Plan) -> tuple[SheetDrawing, SafeString]:
    """The sheet of a plan as it is kept, with nothing chosen."""
    drawing = draw_sheet(plan, findings_of(plan)[0])
    return drawing, sheet_parts(drawing)


@in_one_go
def add(request):
    """Add a box."""
    here = in_use(request)
    initial = {"shape": request.GET.get("shape", "poly-synth")}
    form = AddBoxForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        box = services.add_box(here.rig, here.plan, **form.cleaned_data)
        twice = any(one.name == box.name for one in here.plan.rig.boxes)
        messages.success(request, f"{box.name} stands on the sheet. Choose one of its sockets to draw a cable.")
        first = recording_interface(here.plan.rig)
        if first and is_interface(box.shape):
            messages.warning(
                request, f"Sound is recorded by one interface, {first.name}; {box.name} is there for MIDI."
            )
        if twice:
            messages.warning(
                request, f"There is another box called {box.name}: in lists and on labels they look alike. Rename one."
            )
        return redirect("rig:home")
    return home(request, sheet="add", form=form, title="Add a box", button="Add to the rig")


@in_one_go
def connect(request):
    """Draw cables, from the form or from two sockets chosen on the sheet."""
    here = in_use(request)
    form = ConnectForm(
        request.POST or None, plan=here.plan, initial={"source": request.GET.get("from", ""), "count": 2}
    )
    if request.method == "POST" and form.is_valid():
        chosen = dict(form.cleaned_data)
        try:
            cable = services.connect(here.rig, here.plan, chosen.pop("source"), chosen.pop("target"), **chosen)
        except DoesNotFit as error:
            form.add_error(None, str(error))
        else:
            if cable.adapter:
                messages.info(request, f"It takes an adapter: {cable.adapter}.")
            return redirect(f"{reverse('rig:home')}?at={cable.target}")
    return home(request, sheet="connect", form=form, title="Draw a cable", button="Connect")


@require_POST
@in_one_go
def replug(request):
    """Move one end of a cable to another socket."""
    here = in_use(request)
    cable = cable_or_404(here, request.POST.get("cable"))
    try:
        services.replug(here.rig, here.plan, cable, request.POST.get("end", ""), request.POST.get("to", ""))
    except DoesNotFit as error:
        messages.error(request, f"The cable stays where it was. {error}")
        return redirect("rig:home")
    return redirect(f"{reverse('rig:home')}?at={request.POST['to']}")


@in_one_go
def cable(request, uid):
    """A cable's details."""
    here = in_use(request)
    value = cable_or_404(here, uid)
    form = EditCableForm(request.POST or None, initial=EditCableForm.of(value))
    if request.method == "POST" and form.is_valid():
        services.note_cable(here.rig, here.plan, value, **form.cleaned_data)
        return redirect("rig:home")
    rig = here.plan.rig
    ends = f"{rig.socket_text(value.source)} to {rig.socket_text(value.target)}"
    made = kind_of_cable(rig, value)
    return home(request, sheet="cable", form=form, cable=value, made=made, title=ends, button="Keep")


@require_POST
@in_one_go
def unplug(request, uid):
    """Remove a cable."""
    here = in_use(request)
    value = cable_or_404(here, uid)
    services.unplug(here.rig, here.plan, value)
    messages.info(request, "The cable is out. Undo plugs it back in.")
    return redirect("rig:home")


@require_POST
@in_one_go
def tidy(request):
    """Let the layout arrange the boxes anew."""
    here = in_use(request)
    if services.tidy(here.rig, here.plan):
        messages.info(request, "The sheet arranges the boxes so that few cables cross. Undo brings your order back.")
    else:
        messages.info(request, "The sheet arranges all boxes already; none is placed by hand.")
    return redirect("rig:home")


@require_POST
@in_one_go
def undo(request):
    """Take back the last change to the rig."""
    return _step_back_or_forth(request, journal.undo, "Undone")


@require_POST
@in_one_go
def redo(request):
    """Repeat the change last taken back."""
    return _step_back_or_forth(request, journal.redo, "Done again")


def _step_back_or_forth(request, move, word: str):
    here = in_use(request)
    try:
        messages.info(request, f"{word}: {move(here.rig, here.session)}.")
    except NothingToUndo as error:
        messages.info(request, str(error))
    target = asked_back(request, reverse("rig:home"))
    # A sheet may belong to what has just gone.
    return redirect("rig:home" if target.startswith(reverse("rig:home")) else target)


def cable_or_404(here: InUse, uid) -> Cable:
    """A cable of this rig."""
    value = next((item for item in here.plan.rig.cables if item.uid == str(uid)), None)
    if value is None:
        raise Http404
    return value


def _guide(here: InUse, drawing: SheetDrawing):
    if here.request.COOKIES.get("hypotaxis-guide") == "off" or here.request.GET.get("guide") == "off":
        return None
    move = next_move(here.plan)
    if move is None or (move.kind == "try" and Job.objects.filter(kind="try-out", about=move.box).exists()):
        return None
    return draw_guide(drawing, move)


def _counts(plan: Plan) -> dict[str, str]:
    outs = [end for end in ports_of(plan.rig, "out") if end.socket.duty == "sends to boxes"]
    if not outs:
        return {}
    keys = [end.box.name for end in keys_in(plan.rig)]
    return {
        "Channels": f"{channel_count(plan.rig)} leave on {len(outs)} port{'s' if len(outs) > 1 else ''}",
        "Keys in": listed(list(dict.fromkeys(keys))) or "nothing is played from",
    }


def _picked(rig: Rig, at: str) -> dict:
    box, socket = rig.find(at)
    ends = rig.far_end(at)
    return {"uid": at, "box": box, "socket": socket, "cable": rig.cable_at(at), "far": ends[0] if ends else None}


def _heard(plan: Plan, at: str, request) -> dict | None:
    """Which boxes hear which channel of a picked MIDI output of the host."""
    box, socket = plan.rig.find(at)
    if not is_port(plan.rig, box, socket) or host_direction(box, socket) != "out":
        return None
    reached = heard_from(plan.rig, at)
    cells = []
    for channel in range(1, 17):
        names = [
            f"{plan.rig.box(r.box).name}{_as_channel(r.channels[channel - 1], channel)}"
            for r in reached
            if r.channels[channel - 1] and _listens(plan, r.box, r.channels[channel - 1])
        ]
        cells.append({"channel": channel, "names": list(dict.fromkeys(names))})
    channel = whole(request.GET.get("channel"), 0, 0, 16)
    return {
        "cells": cells,
        "channel": channel,
        "told": listed(cells[channel - 1]["names"]) if channel else "",
        "boxes": listed(list(dict.fromkeys(plan.rig.box(r.box).name for r in reached))),
    }


def _as_channel(arrives: int, sent: int) -> str:
    return "" if arrives == sent else f" (as {arrives})"


def _listens(plan: Plan, box_uid: str, channel: int) -> bool:
    """Whether a box answers on a channel, as far as the plan says: omni, its setup, or an instrument of it."""
    setup = plan.rig.box(box_uid).setup
    if setup.omni or channel in setup.receives:
        return True
    return any(one.channel == channel for one in plan.instruments_of(box_uid))


def _levels(rig: Rig, instrument: Instrument | None) -> dict | None:
    """The levels along the way home of a trip's first return, with what they say about the gain."""
    ways = trip_of(rig, instrument).homeward if instrument else ()
    points = levels_along(rig, ways[0]) if ways else ()
    if not points:
        return None
    told = [(rig.socket_text(point.socket), signed(point.level_dbu)) for point in points]
    kept = [told[0], *(two for one, two in pairwise(told) if two[1] != one[1]), told[-1]]
    return {"points": list(dict.fromkeys(kept)), "advice": advice(rig, ways[0])}


def _partner(rig: Rig, at: str) -> dict | None:
    """The other side of a pair of which only one is plugged at this socket, ready to be plugged too."""
    cable = rig.cable_at(at)
    ends = pair_of(rig, cable.source, cable.target) if cable else None
    if ends is None:
        return None
    return {"source": ends[0], "target": ends[1], "told": f"{rig.socket_text(ends[0])} to {rig.socket_text(ends[1])}"}
