"""Lists made from the rig: start-up, panel settings, and what is printed."""

from django.shortcuts import redirect, render
from django.utils import timezone

from hypotaxis.core.rig.panels import panel_settings
from hypotaxis.core.rig.printed import cable_rows, label_strips
from hypotaxis.core.rig.startup import startup_list
from hypotaxis.records.current import in_one_go, in_use
from hypotaxis.records.plan import ON_THE_BOX
from hypotaxis.records.ticks import keep_ticks, ticked_on
from hypotaxis.steps.rig.views.sheet import home


@in_one_go
def startup(request):
    """The start-up list; its ticks are of today."""
    here = in_use(request)
    stages, today = startup_list(here.plan), timezone.localdate()
    keys = {step.key for stage in stages if stage.ticked for step in stage.steps}
    if request.method == "POST":
        keep_ticks(here.rig, keys, set(request.POST.getlist("done")), today)
        return redirect("rig:startup")
    done = ticked_on(here.rig, today).keys() & keys
    return home(request, sheet="startup", stages=stages, done=done, many=len(keys), today=today)


@in_one_go
def panels(request):
    """What has to be set on each box, ticked with the day it was done."""
    here = in_use(request)
    boxes = panel_settings(here.plan)
    keys, today = {step.key for one in boxes for step in one.settings}, timezone.localdate()
    made = ticked_on(here.rig, today)
    if request.method == "POST":
        # What the plan does not ask for any more is ticked no longer.
        gone = {key for key in made if key.startswith(ON_THE_BOX)} - keys
        keep_ticks(here.rig, keys | gone, keys & set(request.POST.getlist("done")), today)
        return redirect("rig:panels")
    rows = [(one, [(step, made.get(step.key)) for step in one.settings]) for one in boxes]
    return home(request, sheet="panels", panel_rows=rows, done=len(keys & made.keys()), many=len(keys))


def printed_cables(request):
    """The cable list, to print."""
    here = in_use(request)
    return render(request, "rig/printed_cables.html", {"rows": cable_rows(here.plan), "today": timezone.localdate()})


def printed_labels(request):
    """Strips for the boxes' panels and flags for the cables, to print and cut."""
    here = in_use(request)
    return render(
        request, "rig/printed_labels.html", {"strips": label_strips(here.plan), "rows": cable_rows(here.plan)}
    )
