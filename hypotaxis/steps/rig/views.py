"""The rig's pages: the sheet, and the forms that open beside it."""

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.utils.http import url_has_allowed_host_and_scheme
from django.utils.text import slugify
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.sheet import draw_sheet, still_free
from hypotaxis.core.errors import DoesNotFit, NothingToUndo, UnreadableFile
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from hypotaxis.core.rig.panels import panel_settings
from hypotaxis.core.rig.plug import fits, pair_of
from hypotaxis.core.rig.search import search
from hypotaxis.core.rig.sentence import trip_sentence
from hypotaxis.core.rig.startup import startup_list
from hypotaxis.core.rig.trips import trip_of
from hypotaxis.core.rig.values import Box, Cable, Rig
from hypotaxis.records import journal
from hypotaxis.records.current import Desk, desk, make_empty_rig
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.models import Rig as RigRow
from hypotaxis.steps.rig import services
from hypotaxis.steps.rig.forms import (
    AddBoxForm,
    CableDetailsForm,
    ConnectForm,
    EditBoxForm,
    NewRigForm,
    RigFileForm,
    RigForm,
)


def home(request, **sheet):
    """The sheet. ?at=SOCKET selects what hangs on a socket, ?trip=INSTRUMENT a trip; sheet: what opens beside it."""
    here = desk(request)
    rig = here.plan.rig
    at = request.GET.get("at", "")
    picked = rig.find(at)
    instrument = here.plan.instrument(request.GET.get("trip", ""))
    if instrument is None and picked:
        instrument = next((i for i in here.plan.instruments if at in trip_of(rig, i).sockets), None)
    trip = trip_of(rig, instrument) if instrument else None
    sought = request.GET.get("find", "").strip()
    marked = search(rig, sought)
    free = picked is not None and rig.cable_at(at) is None
    context = {
        "drawing": draw_sheet(
            here.plan,
            here.findings,
            trip=None if free else trip,
            socket=at if picked else "",
            marked=marked,
        ),
        "sought": sought,
        "hits": len(marked),
        "findings": here.findings,
        "box_uids": {box.uid for box in rig.boxes},
        "free": still_free(rig),
        "empty": all(box.shape == "host" for box in rig.boxes),
        "picked": {"uid": at, "box": picked[0], "socket": picked[1], "cable": rig.cable_at(at)} if picked else None,
        "fitting": {s.uid for _, s in rig.each_socket() if fits(rig, at, s.uid)} if free else set(),
        "partner": _partner(rig, at) if picked else None,
        "instrument": instrument,
        "sentence": trip_sentence(rig, instrument) if instrument else (),
        "sheet": None,
    }
    return render(request, "rig/home.html", context | sheet)


def add(request):
    """Add a box."""
    here = desk(request)
    initial = {"shape": request.GET.get("shape", "poly-synth")}
    form = AddBoxForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        box = services.add_box(here.rig, here.plan, **form.cleaned_data)
        messages.success(request, f"{box.name} stands on the sheet. Choose one of its sockets to draw a cable.")
        return redirect("rig:home")
    return home(request, sheet="add", form=form, title="Add a box", button="Add to the rig")


def box(request, uid):
    """Change a box."""
    here = desk(request)
    value = _box(here, uid)
    form = EditBoxForm(request.POST or None, box=value)
    if request.method == "POST" and form.is_valid():
        fields = {name: form.cleaned_data[name] for name in ("name", "note", "colour")}
        services.edit_box(here.rig, value, **fields, port_names=form.port_names())
        return redirect("rig:home")
    return home(request, sheet="box", form=form, box=value, title=value.name, button="Keep")


@require_POST
def copy(request, uid):
    """A second box like this one."""
    here = desk(request)
    made = services.copy_box(here.rig, here.plan, _box(here, uid))
    messages.success(request, f"{made.name} stands on the sheet, not cabled yet.")
    return redirect("rig:box", uid=made.uid)


@require_POST
def move(request, uid):
    """Move a box up or down in its column."""
    here = desk(request)
    value = _box(here, uid)
    up = request.POST.get("to") == "up"
    if not services.move_box(here.rig, here.plan, value, up=up):
        messages.info(request, f"{value.name} stands at the {'top' if up else 'bottom'} of its column already.")
    return redirect("rig:box", uid=uid)


@require_POST
def remove(request, uid):
    """Remove a box."""
    here = desk(request)
    value = _box(here, uid)
    services.remove_box(here.rig, value)
    messages.info(request, f"{value.name} and its cables are removed. Undo brings them back.")
    return redirect("rig:home")


def connect(request):
    """Draw a cable, from the form or from two sockets clicked on the sheet."""
    here = desk(request)
    form = ConnectForm(request.POST or None, plan=here.plan, initial={"source": request.GET.get("from", "")})
    if request.method == "POST" and form.is_valid():
        chosen = dict(form.cleaned_data)
        try:
            cable = services.connect(here.rig, here.plan, chosen.pop("source"), chosen.pop("target"), **chosen)
        except DoesNotFit as error:
            form.add_error(None, str(error))
        else:
            return redirect(f"{reverse('rig:home')}?at={cable.target}")
    return home(request, sheet="connect", form=form, title="Draw a cable", button="Connect")


def cable(request, uid):
    """A cable's details."""
    here = desk(request)
    value = _cable(here, uid)
    initial = {"length_m": value.length_m, "colour": value.colour, "label": value.label}
    form = CableDetailsForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        services.note_cable(here.rig, value, **form.cleaned_data)
        return redirect("rig:home")
    rig = here.plan.rig
    ends = f"{rig.socket_text(value.source)} to {rig.socket_text(value.target)}"
    return home(request, sheet="cable", form=form, cable=value, title=ends, button="Keep")


@require_POST
def unplug(request, uid):
    """Remove a cable."""
    here = desk(request)
    value = _cable(here, uid)
    services.unplug(here.rig, here.plan, value)
    messages.info(request, "The cable is out. Undo plugs it back in.")
    return redirect("rig:home")


def startup(request):
    """The start-up list; its ticks are of today."""
    here = desk(request)
    stages, today = startup_list(here.plan), timezone.localdate()
    keys = {step.key for stage in stages if stage.ticked for step in stage.steps}
    if request.method == "POST":
        services.tick(here.rig, keys & set(request.POST.getlist("done")), today)
        return redirect("rig:startup")
    done = services.ticked(here.rig, today) & keys
    return home(request, sheet="startup", stages=stages, done=done, many=len(keys), today=today)


def panels(request):
    """What has to be set on each box, ticked with the day it was done."""
    here = desk(request)
    boxes = panel_settings(here.plan)
    keys = {step.key for one in boxes for step in one.settings}
    if request.method == "POST":
        services.note_settings(here.rig, keys & set(request.POST.getlist("done")), timezone.localdate())
        return redirect("rig:panels")
    made = services.settings_made(here.rig)
    rows = [(one.box, [(step, made.get(step.key)) for step in one.settings]) for one in boxes]
    return home(request, sheet="panels", panel_rows=rows, done=len(keys & made.keys()), many=len(keys))


def rigs(request):
    """The rigs there are: choose one, change its settings."""
    here = desk(request)
    form = RigForm(request.POST or None, initial={"name": here.rig.name, "buffer": here.rig.buffer})
    if request.method == "POST" and form.is_valid():
        services.change_settings(here.rig, **form.cleaned_data)
        return redirect("rig:rigs")
    return _rigs(request, form=form)


def new_rig(request):
    """A new, empty rig."""
    form = NewRigForm(request.POST or None, initial={"sample_rate": 48000, "buffer": 256})
    if request.method == "POST" and form.is_valid():
        return _go_on_with(make_empty_rig(**form.cleaned_data))
    return home(request, sheet="new-rig", form=form, title="A new rig", button="Begin it")


@require_POST
def choose_rig(request, uid):
    """Go on with another rig."""
    return _go_on_with(get_object_or_404(RigRow, uid=uid))


@require_POST
def duplicate_rig(request):
    """Go on with a copy of the rig."""
    rig = services.duplicate(desk(request).plan)
    messages.success(request, f"This is {rig.name}: boxes, cables and instruments are copied, sessions are not.")
    return _go_on_with(rig)


def rig_file(request):
    """The rig with its instruments as a file."""
    here = desk(request)
    answer = HttpResponse(write_rig_file(here.plan), content_type="application/json")
    answer["Content-Disposition"] = f'attachment; filename="{slugify(here.rig.name) or "rig"}.json"'
    return answer


@require_POST
def read_rig(request):
    """A rig from a file, beside those that are there."""
    form = RigFileForm(request.POST, request.FILES)
    if form.is_valid():
        try:
            rig = import_rig(read_rig_file(form.cleaned_data["file"].read().decode("utf-8")))
        except UnicodeDecodeError as error:
            form.add_error("file", f"It is not UTF-8: byte {error.start} cannot be read.")
        except UnreadableFile as error:
            form.add_error("file", str(error))
        else:
            messages.success(request, f"{rig.name} is read, beside the rigs that were there.")
            return _go_on_with(rig)
    return _rigs(request, file_form=form)


def _rigs(request, **forms):
    here = desk(request)
    known = {"form": RigForm(initial={"name": here.rig.name, "buffer": here.rig.buffer}), "file_form": RigFileForm()}
    return home(request, sheet="rigs", rigs=here.rigs, title="Rigs", button="Keep", **known | forms)


def _go_on_with(rig: RigRow):
    answer = redirect("rig:home")
    answer.set_cookie("hypotaxis-rig", str(rig.uid), max_age=31536000, samesite="Strict")
    return answer


@require_POST
def undo(request):
    """Take back the last change to the rig."""
    return _step_back_or_forth(request, journal.undo, "Undone")


@require_POST
def redo(request):
    """Repeat the change last taken back."""
    return _step_back_or_forth(request, journal.redo, "Done again")


def _step_back_or_forth(request, move, word: str):
    try:
        messages.info(request, f"{word}: {move(desk(request).rig)}.")
    except NothingToUndo as error:
        messages.info(request, str(error))
    target = request.POST.get("next", "")
    if not url_has_allowed_host_and_scheme(target, allowed_hosts={request.get_host()}):
        target = reverse("rig:home")
    # A sheet may belong to what has just gone.
    return redirect("rig:home" if target.startswith(reverse("rig:home")) else target)


def _partner(rig: Rig, at: str) -> dict | None:
    """The other side of a pair of which only one is plugged at this socket, ready to be plugged too."""
    cable = rig.cable_at(at)
    ends = pair_of(rig, cable.source, cable.target) if cable else None
    if ends is None:
        return None
    return {"source": ends[0], "target": ends[1], "told": f"{rig.socket_text(ends[0])} to {rig.socket_text(ends[1])}"}


def _box(here: Desk, uid) -> Box:
    value = here.plan.rig.box(str(uid))
    if value is None or value.shape == "host":
        raise Http404
    return value


def _cable(here: Desk, uid) -> Cable:
    value = next((item for item in here.plan.rig.cables if item.uid == str(uid)), None)
    if value is None:
        raise Http404
    return value
