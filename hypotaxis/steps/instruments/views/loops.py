"""Effect loops: lines of the same kind as the instruments'."""

from dataclasses import replace

from django.contrib import messages
from django.http import Http404
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.steps.instruments.forms import LoopForm
from hypotaxis.steps.instruments.services import looping
from hypotaxis.steps.instruments.views.lines import home


@in_one_go
def loop(request, uid=None):
    """Define a loop, what the sheet already says filled in, or change one."""
    here = in_use(request)
    value = _loop_or_404(here, uid) if uid else looping.propose_loop(here.plan, request.GET.get("box", ""))
    form = LoopForm(request.POST or None, plan=here.plan, loop=value)
    form.of_new = uid is None
    if request.method == "POST" and form.is_valid():
        chosen = {name: form.cleaned_data[name] for name in ("name", "box", "home_trim_db", "inverted", "notes")}
        looping.keep(here.rig, here.plan, replace(value, sends=form.sends(), returns=form.inputs(), **chosen))
        return redirect("instruments:home")
    title = f"Change the loop {value.name}" if uid else "New effect loop"
    return home(request, sheet="edit", form=form, title=title, button="Keep" if uid else "Define it")


@require_POST
@in_one_go
def remove(request, uid):
    """Remove a loop."""
    here = in_use(request)
    value = _loop_or_404(here, uid)
    looping.remove(here.rig, here.plan, value)
    messages.info(request, f"The loop {value.name} is removed. Undo brings it back.")
    return redirect("instruments:home")


def _loop_or_404(here: InUse, uid):
    value = here.plan.loop(str(uid))
    if value is None:
        raise Http404
    return value
