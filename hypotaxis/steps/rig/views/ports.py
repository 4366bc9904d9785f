"""The list of ports: what the studio reports, matched to sockets, named and given a duty."""

from django.contrib import messages
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hypotaxis.core.rig.ports import channel_count, match, ports_of
from hypotaxis.core.rig.shapes import is_interface
from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.records.models import Job
from hypotaxis.steps.rig import asking, services
from hypotaxis.steps.rig.forms import PortsForm
from hypotaxis.steps.rig.views.sheet import home


@in_one_go
def ports(request):
    """All ports, in and out."""
    here = in_use(request)
    reported = here.plan.reported or ()
    matching = match(here.plan.rig, reported)
    own = [port for port in reported if port.system_name not in matching.copies]
    names = {way: [port.system_name for port in own if port.direction == way] for way in ("in", "out")}
    form = PortsForm(request.POST or None, ends=ports_of(here.plan.rig), reported=names)
    if request.method == "POST" and form.is_valid():
        if services.name_ports(here.rig, here.plan, form.changes()):
            messages.success(request, "Names and duties are kept.")
        return redirect("rig:ports")
    job = Job.objects.filter(kind="asking", about=str(here.rig.uid)).last() if "asked" in request.GET else None
    missing = {end.socket.uid for end in matching.missing}
    taken = {port.system_name for port in reported if port.taken}
    return home(
        request,
        sheet="ports",
        form=form,
        missing=missing,
        taken=taken,
        matching=matching,
        channels=channel_count(here.plan.rig),
        title="Ports",
        **_answers(here, job),
    )


@require_POST
def ask(request):
    """Ask on every port who is there."""
    asking.start_asking(in_use(request).rig)
    return redirect(f"{reverse('rig:ports')}?asked=1#answers")


def answers(request, job):
    """Who answered, polled by the page until all have been asked."""
    row = get_object_or_404(Job, uid=job, kind="asking")
    answer = render(request, "rig/includes/answers.html", _answers(in_use(request), row))
    answer["X-Finished"] = "1" if row.finished else "0"
    return answer


@require_POST
@in_one_go
def known_as(request):
    """Keep by which identity a box is known."""
    here = in_use(request)
    box = here.plan.rig.box(request.POST.get("box", ""))
    if box is None:
        messages.error(request, "Choose the box that answered.")
    else:
        asking.keep_identity(here.rig, here.plan, box, request.POST.get("identity", "")[:40])
        messages.success(request, f"{box.name} is known by its answer from now on.")
    return redirect(f"{reverse('rig:ports')}?asked=1#answers")


def _answers(here: InUse, job: Job | None) -> dict:
    if job is None:
        return {"asked": None}
    rig = here.plan.rig
    rows = [
        {
            "port": rig.socket_text(one.answer.sent_on),
            "back": rig.socket_text(one.answer.came_by),
            "words": asking.words(one.answer.identity),
            "kind": one.answer.identity.kind,
            "box": one.box,
            "name": rig.box(one.box).name if one.box else "",
            "known": bool(one.box) and rig.box(one.box).identity == one.answer.identity.kind,
            "told": one.told,
        }
        for one in asking.answered(here.plan, job)
    ]
    boxes = [box for box in rig.boxes if any(s.kind == "midi" for s in box.sockets) and not is_interface(box.shape)]
    return {"asked": job, "answers": rows, "boxes": boxes}


@require_POST
@in_one_go
def propose(request):
    """Match what can be matched by name."""
    here = in_use(request)
    count = services.take_proposals(here.rig, here.plan)
    if count:
        messages.success(request, f"{count} port{'s are' if count > 1 else ' is'} matched. Undo takes it back.")
    else:
        messages.info(request, "None of the ports that the studio reports looks like one that is missing.")
    return redirect("rig:ports")


@require_POST
@in_one_go
def reported_names(request):
    """Back to the names the studio reports."""
    here = in_use(request)
    if not services.back_to_reported_names(here.rig, here.plan):
        messages.info(request, "No port has been given a name.")
    return redirect("rig:ports")
