"""Lists made from the rig: start-up, panel settings, and what is printed."""

from dataclasses import dataclass
from datetime import date

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.views.decorators.http import require_POST

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.linecheck.panel import HeardSetting
from hypotaxis.core.rig.panels import BoxSettings, panel_settings
from hypotaxis.core.rig.ports import keys_in
from hypotaxis.core.rig.printed import cable_rows, label_strips
from hypotaxis.core.rig.startup import StartStep, startup_list
from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.records.plan import ON_THE_BOX
from hypotaxis.records.ticks import keep_ticks, ticked_on
from hypotaxis.steps.rig import panel_heard
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
    if request.POST.get("to") == "heard":
        messages.success(request, panel_heard.tick_heard(here.rig, here.plan))
        return redirect("rig:panels")
    if request.method == "POST":
        # What the plan does not ask for any more is ticked no longer.
        gone = {key for key in made if key.startswith(ON_THE_BOX)} - keys
        keep_ticks(here.rig, keys | gone, keys & set(request.POST.getlist("done")), today)
        return redirect("rig:panels")
    heard = panel_heard.heard(here.rig, here.plan)
    context = {
        "panel_rows": [_panel_row(here, one, made, heard) for one in boxes],
        "done": len(keys & made.keys()),
        "many": len(keys),
        "heard": len(heard),
        "otherwise": sum(not one.holds for one in heard.values()),
        "key_job": panel_heard.waits_for_key(here.rig),
        "seconds": panel_heard.LISTEN_S,
    }
    return home(request, sheet="panels", **context)


@dataclass(frozen=True)
class PanelRow:
    """A box with its settings: each with the day it was ticked and what was heard of it, None = neither; local: its
    local control can be asked by one key."""

    one: BoxSettings
    settings: list[tuple[StartStep, date | None, HeardSetting | None]]
    local: bool


def _panel_row(here: InUse, one: BoxSettings, made: dict, heard: dict[str, HeardSetting]) -> PanelRow:
    settings = [(step, made.get(step.key), heard.get(step.key)) for step in one.settings]
    played = any(end.box.uid == one.box.uid for end in keys_in(here.plan.rig))
    return PanelRow(one, settings, local=played and one.box.setup.local in ("on", "off"))


@require_POST
def press_key(request, uid):
    """Wait for one key of a box, to hear whether its local control is on."""
    here = in_use(request)
    try:
        panel_heard.start_local(here.rig, here.plan, str(uid), token=request.POST.get("token", ""))
    except CannotSchedule as error:
        messages.error(request, str(error))
    return redirect("rig:panels")


def press_key_state(request):
    """Whether a key is waited for, polled by the page."""
    job = panel_heard.waits_for_key(in_use(request).rig)
    answer = HttpResponse("")
    answer["X-Finished"] = "1" if job is None or job.finished else "0"
    return answer


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
