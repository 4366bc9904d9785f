"""Sync: who follows, what is sent to them, and whether they stay in step."""

from django.contrib import messages
from django.http import Http404
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.lattice import HOST_H, USUAL_ZOOM, ZOOMS
from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.rig.values import Socket
from hypotaxis.core.sync.divisions import divisions
from hypotaxis.core.sync.following import bar_ticks
from hypotaxis.core.sync.values import WRAPS, Sending
from hypotaxis.records.current import InUse, asked_back, in_one_go, in_use
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job, Proof
from hypotaxis.records.plan import last_bar_of, loop_of
from hypotaxis.steps.sync import leading, proving, services
from hypotaxis.steps.sync.forms import BoxForm, LoopForm, PortForm

MOST_TEMPOS = 40


def home(request, port_form: PortForm | None = None, loop_form: LoopForm | None = None, **more):
    """The lattice, and what each port sends."""
    here = in_use(request)
    place = _zoom(request)
    page = services.page_of(here.rig, here.plan, ZOOMS[place], port_form)
    context = {
        "page": page,
        "course": here.plan.song,
        "loop_form": loop_form or (_loop_form(here) if here.session else None),
        "zoom": place,
        "closer": place + 1 if place + 1 < len(ZOOMS) else None,
        "farther": place - 1 if place else None,
        "tables": _tables(here),
        "running": here.rig.proofs.filter(job__state__in=Job.UNFINISHED).select_related("job").first(),
        "host_h": HOST_H,
        **more,
    }
    return render(request, "sync/home.html", context)


@require_POST
@in_one_go
def loop(request):
    """Loop other bars, or none."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    form = _loop_form(here, request.POST)
    if not form.is_valid():
        return home(request, loop_form=form)
    edge, by = request.POST.get("edge", ""), request.POST.get("by", "")
    setting = form.setting()
    if edge and by.lstrip("-").isdigit():
        setting = services.moved(setting, here.plan.song, edge, int(by[:8]), last_bar=form.last_bar)
    services.set_loop(here.session, setting)
    return _back(request)


@require_POST
@in_one_go
def port(request, uid):
    """Change what a port sends; by a button alone what is sent at the wrap."""
    here = in_use(request)
    socket = _socket(here, str(uid))
    cure = request.POST.get("cure", "")
    if cure in WRAPS:
        services.set_sending(here.rig, here.plan, socket, services.cured(socket.sending or Sending(), cure))
        return _back(request)
    form = PortForm(request.POST, port=socket)
    if not form.is_valid():
        return home(request, port_form=form)
    services.set_sending(here.rig, here.plan, socket, form.sending())
    return _back(request)


@require_POST
@in_one_go
def clock(request, uid):
    """Send clock on a port, or no longer."""
    here = in_use(request)
    services.set_clock(here.rig, here.plan, _socket(here, str(uid)), on=request.POST.get("on") == "1")
    return _back(request)


@in_one_go
def box(request, uid):
    """What a box makes of the clock it hears."""
    here = in_use(request)
    found = here.plan.rig.box(str(uid))
    if found is None:
        raise Http404
    form = BoxForm(request.POST or None, box=found, a_bar=bar_ticks(here.plan.song))
    if request.method == "POST" and form.is_valid():
        services.set_following(here.rig, here.plan, found, form.following())
        messages.success(request, f"How {found.name} follows is kept.")
        return _back(request)
    return home(request, box=found, box_form=form)


@require_POST
def prove(request, uid):
    """Ask for a proof of a box."""
    here = in_use(request)
    found = here.plan.rig.box(str(uid))
    if found is None or here.session is None:
        raise Http404
    try:
        proving.start_proof(here.rig, here.session, here.plan, found, fast=request.POST.get("fast") == "on")
    except CannotSchedule as error:
        messages.error(request, str(error))
    return _back(request)


def proof(request, uid):
    """How far a proof is, polled by the page."""
    row = get_object_or_404(Proof.objects.select_related("job"), uid=uid)
    answer = render(request, "sync/includes/proving.html", {"running": row})
    answer["X-Finished"] = "1" if row.job.finished else "0"
    return answer


@require_POST
def stop_proof(request, uid):
    """End a proof; nothing of it is kept."""
    ask_to_cancel(str(get_object_or_404(Proof, uid=uid).job_id))
    return _back(request)


def _loop_form(here: InUse, data=None) -> LoopForm:
    kept = loop_of(here.session)
    initial = {name: getattr(kept, name) for name in LoopForm.base_fields}
    return LoopForm(data, auto_id="loop_%s", initial=initial, last_bar=last_bar_of(here.session))


def _zoom(request) -> int:
    try:
        return min(len(ZOOMS) - 1, max(0, int(request.GET.get("zoom", USUAL_ZOOM))))
    except ValueError:
        return USUAL_ZOOM


def _socket(here: InUse, uid: str) -> Socket:
    found = here.plan.rig.find(uid)
    if found is None:
        raise Http404
    return found[1]


def _back(request):
    zoom = request.GET.get("zoom", "")
    return redirect(reverse("sync:home") + (f"?zoom={zoom}" if zoom.isdigit() else ""))


def _tables(here: InUse) -> list[tuple[float, list]]:
    """(BPM, divisions) of each tempo of the song, once."""
    if here.plan.song is None:
        return []
    tempo = here.plan.song.tempo
    paces = dict.fromkeys(round(tempo.bpm_at(tick), 3) for tick, _ in tempo.tempos)
    return [(bpm, divisions(bpm)) for bpm in list(paces)[:MOST_TEMPOS]]


@require_POST
def listen(request):
    """Listen to the leader's clock from now on, or no longer."""
    here = in_use(request)
    if request.POST.get("to") == "stop":
        for job in Job.objects.filter(kind=leading.KIND, about=str(here.rig.uid), state__in=Job.UNFINISHED):
            ask_to_cancel(str(job.uid))
    else:
        try:
            leading.start_listening(here.rig, here.plan)
        except CannotSchedule as error:
            messages.error(request, str(error))
    target = asked_back(request, reverse("sync:home"))
    return redirect(target)


def tempo_in(request, uid):
    """The leader's tempo as it arrives, polled by every page."""
    job = get_object_or_404(Job, uid=uid, kind__in=(leading.KIND, "pass"))
    answer = render(request, "web/includes/tempo_in.html", {"tempo_in": leading.tempo_in(job), "job": job})
    answer["X-Finished"] = "1" if job.finished else "0"
    return answer
