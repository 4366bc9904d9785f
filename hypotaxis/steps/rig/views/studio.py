"""The studio of this computer: which one is used, what it reports and hears, and which of its ends is which."""

from dataclasses import dataclass

from django.contrib import messages
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.levels import WIDTH, LevelBar, level_bar
from hypotaxis.core.errors import DoesNotFit
from hypotaxis.core.findings.finding import counted
from hypotaxis.core.playing.listening import ListenWish, StudioHeard
from hypotaxis.core.rig.ports import PortEnd, match_audio, ports_of
from hypotaxis.core.rig.trips import host_audio
from hypotaxis.core.rig.values import Rig
from hypotaxis.core.studio import JACK, PORTABLE, STAND_IN, STUDIO_NAMES, AudioEnd, Reported
from hypotaxis.core.units import stored_level_text
from hypotaxis.records import studio as kept
from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job, Studio
from hypotaxis.steps.rig import services
from hypotaxis.steps.rig.forms import EndsForm, OwnPortForm, StudioForm
from hypotaxis.steps.rig.listening import heard_of, start_listening
from hypotaxis.steps.rig.views.sheet import home


def studio(request):
    """What is used, and what it reports."""
    here = in_use(request)
    job = Job.objects.filter(kind="looking").last()
    return home(request, sheet="studio", title="Studio", **_told(here), looking=job if _waits(job) else None)


def looking(request, job):
    """Whether the studio has answered, polled by the page."""
    row = get_object_or_404(Job, uid=job, kind="looking")
    answer = render(request, "rig/includes/looking.html", {"looking": row})
    answer["X-Finished"] = "1" if row.finished else "0"
    return answer


@require_POST
def choose(request):
    """Use another studio."""
    here = in_use(request)
    form = _form(here, request.POST)
    if not form.is_valid():
        return home(request, sheet="studio", title="Studio", **(_told(here) | {"form": form}), looking=None)
    kept.choose(**form.cleaned_data)
    messages.success(request, f"{_named(form.cleaned_data['kind'])} is in use now. It is kept for this computer.")
    return redirect("rig:studio")


@require_POST
def offer(request):
    """Have a port of our own that other programs connect to."""
    form = OwnPortForm(request.POST)
    try:
        if form.is_valid():
            kept.offer(form.cleaned_data["name"], *form.cleaned_data["what"].split())
            return redirect("rig:studio")
    except DoesNotFit as error:
        form.add_error("name", str(error))
    told = _told(in_use(request)) | {"own_form": form}
    return home(request, sheet="studio", title="Studio", **told, looking=None)


@require_POST
def withdraw(request):
    """Offer one of them no longer."""
    kept.withdraw(request.POST.get("name", ""))
    return redirect("rig:studio")


@require_POST
def look_again(request):
    """Let the worker look what is there now."""
    kept.look_again()
    return redirect("rig:studio")


@require_POST
def listen(request):
    """Listen on every input and port for a while; with a test note or tone where one was asked for."""
    here = in_use(request)
    wish = ListenWish(note=request.POST.get("note", "")[:200], tone=request.POST.get("tone", "")[:200])
    last = Job.objects.filter(kind="listening", about=str(here.rig.uid)).last()
    if _waits(last):
        ask_to_cancel(str(last.uid))
    if not request.POST.get("stop"):
        start_listening(here.rig, wish)
    return redirect("rig:studio")


def listening(request, job):
    """What is heard now, polled by the page."""
    here, row = in_use(request), get_object_or_404(Job, uid=job, kind="listening")
    context = {"lists": _lists(here.plan.rig, here.plan.studio, row), "listened": row, "meter_width": WIDTH}
    answer = render(request, "rig/includes/studio_heard.html", context)
    answer["X-Finished"] = "1" if row.finished else "0"
    return answer


@in_one_go
def inputs(request):
    """Which reported input and output belongs to which socket, and what it is called."""
    here = in_use(request)
    found = here.plan.studio
    ends = [PortEnd(box, one, way) for way in ("in", "out") for box, one in host_audio(here.plan.rig, way)]
    names = {"in": _names(found.inputs) if found else [], "out": _names(found.outputs) if found else []}
    form = EndsForm(request.POST or None, ends=ends, reported=names)
    if request.method == "POST" and form.is_valid():
        if services.name_ports(here.rig, here.plan, form.changes()):
            messages.success(request, "Names of inputs and outputs are kept.")
        return redirect("rig:inputs")
    free = match_audio(here.plan.rig, _names(found.inputs), _names(found.outputs)) if found else {}
    return home(request, sheet="inputs", title="Inputs and outputs", form=form, proposed=len(free), found=found)


@require_POST
@in_one_go
def propose(request):
    """Match the inputs and outputs that are matched to nothing."""
    here = in_use(request)
    found = here.plan.studio
    fields = match_audio(here.plan.rig, _names(found.inputs), _names(found.outputs)) if found else {}
    services.name_ports(here.rig, here.plan, {uid: {"system_name": name} for uid, name in fields.items()})
    messages.info(request, f"{counted(len(fields), 'end')} matched, in their order. Look it over.")
    return redirect("rig:inputs")


def _names(ends: tuple[AudioEnd, ...]) -> list[str]:
    return [end.name for end in ends]


def _waits(job: Job | None) -> bool:
    return job is not None and not job.finished


def _told(here: InUse) -> dict:
    row, found = here.studio, here.plan.studio
    listened = Job.objects.filter(kind="listening", about=str(here.rig.uid)).last()
    rig = here.plan.rig
    return {
        "form": _form(here),
        "own_form": OwnPortForm(),
        "own": kept.wanted_now(row).own,
        "row": row,
        "found": found,
        "choices": [(kind, _named(kind), _choice_told(kind, row, found)) for kind in STUDIO_NAMES],
        "last_run": here.plan.told,
        "period_ms": 1000 * found.buffer / found.rate if found else 0,
        "lists": _lists(rig, found, listened) if found else {},
        "listened": listened,
        "meter_width": WIDTH,
        "action": reverse("rig:choose-studio"),
    }


def _named(kind: str) -> str:
    """A kind of studio at the beginning of a line."""
    name = STUDIO_NAMES[kind]
    return name[0].upper() + name[1:]


def _form(here: InUse, data=None) -> StudioForm:
    """The choice, with the devices that are known to be there."""
    found = here.plan.studio
    devices = (found.input_devices, found.output_devices) if found else ((), ())
    initial = {name: getattr(here.studio, name) for name in StudioForm.base_fields}
    return StudioForm(data, devices=devices, initial=initial)


def _choice_told(kind: str, row: Studio, found: Reported | None) -> str:
    if kind == STAND_IN:
        return "simulated boxes, to try things"
    if row.kind != kind:
        return {
            JACK: "real ports and inputs, on one clock: exact to the sample",
            PORTABLE: "an interface and its MIDI as the system has them: notes within a few ms",
        }[kind]
    if found is None:
        return "it has not answered"
    return f"server “{found.server}”, running" if kind == JACK else f"by {found.server}, running"


@dataclass(frozen=True)
class EndRow:
    """A reported port or end as its row shows it. here: what it is on the desk, "" = matched to nothing."""

    name: str
    here: str
    bar: LevelBar | None = None
    peak: str = ""
    last: str = ""
    """The bytes that came last."""
    tempo: str = ""
    """The tempo of the clock that comes there, in words."""
    private: bool = False
    """It belongs to a control surface or an editor, so that no note is sent there."""


def _lists(rig: Rig, found: Reported, job: Job | None) -> dict[str, list[EndRow]]:
    """What is reported and what it is on the desk: ports and ends, in and out, with what was heard."""
    ports = {(end.socket.system_name, end.direction): rig.socket_text(end.socket.uid) for end in ports_of(rig)}
    private = {end.socket.system_name for end in ports_of(rig) if end.socket.duty in ("surface", "editor")}
    audio = {
        (socket.system_name, way): socket.name
        for way in ("in", "out")
        for _, socket in host_audio(rig, way)
        if socket.system_name
    }
    heard = heard_of(job) if job else StudioHeard()
    last, levels = dict(heard.received), {one.name: one for one in heard.inputs}
    tempos = dict(heard.tempos)

    def midi(way: str) -> list[EndRow]:
        names = [port.system_name for port in found.ports if port.direction == way]
        return [
            EndRow(
                name,
                ports.get((name, way), ""),
                last=last.get(name, ""),
                tempo=tempos.get(name, "") if way == "in" else "",
                private=name in private,
            )
            for name in names
        ]

    ins = []
    for end in found.inputs:
        one = levels.get(end.name)
        bar = level_bar(one.level, one.peak, one.peak >= 0.0) if one else None
        peak = stored_level_text(one.peak) if one else ""
        ins.append(EndRow(end.name, audio.get((end.name, "in"), ""), bar, peak))
    outs = [EndRow(end.name, audio.get((end.name, "out"), "")) for end in found.outputs]
    return {"midi_in": midi("in"), "midi_out": midi("out"), "audio_in": ins, "audio_out": outs}
