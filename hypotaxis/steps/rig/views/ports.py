"""The list of ports: what the studio reports, matched to sockets, named and given a duty."""

from django.contrib import messages
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from hypotaxis.core.rig.ports import channel_count, match, ports_of
from hypotaxis.records.current import desk
from hypotaxis.steps.rig import services
from hypotaxis.steps.rig.forms import PortsForm
from hypotaxis.steps.rig.views.sheet import home


def ports(request):
    """All ports, in and out."""
    here = desk(request)
    reported = here.plan.reported or ()
    matching = match(here.plan.rig, reported)
    names = [port.system_name for port in reported if port.system_name not in matching.copies]
    form = PortsForm(request.POST or None, ends=ports_of(here.plan.rig), reported=list(dict.fromkeys(names)))
    if request.method == "POST" and form.is_valid():
        if services.name_ports(here.rig, here.plan, form.changes()):
            messages.success(request, "Names and duties are kept.")
        return redirect("rig:ports")
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
    )


@require_POST
def propose(request):
    """Match what can be matched by name."""
    here = desk(request)
    count = services.take_proposals(here.rig, here.plan)
    if count:
        messages.success(request, f"{count} port{'s are' if count > 1 else ' is'} matched. Undo takes it back.")
    else:
        messages.info(request, "Nothing the studio reports looks like a port that waits for a match.")
    return redirect("rig:ports")


@require_POST
def reported_names(request):
    """Back to the names the studio reports."""
    here = desk(request)
    if not services.back_to_reported_names(here.rig, here.plan):
        messages.info(request, "No port has a name of yours.")
    return redirect("rig:ports")
