"""The page of the pass plan: which tracks in which pass, run in a row."""

from django.contrib import messages
from django.http import Http404
from django.shortcuts import redirect, render

from hypotaxis.core.errors import BadBars, CannotSchedule
from hypotaxis.core.session.templates import PASS_PLAN
from hypotaxis.core.studio import STAND_IN
from hypotaxis.records import templates
from hypotaxis.records.asked import whole
from hypotaxis.records.current import in_one_go, in_use
from hypotaxis.records.line_checks import last_check
from hypotaxis.records.plan import last_bar_of
from hypotaxis.steps.session.plan_forms import PlanForm
from hypotaxis.steps.session.running import running_context, running_share
from hypotaxis.steps.session.services import beginning, planning
from hypotaxis.steps.session.services.plan_page import PlanPage
from hypotaxis.steps.session.services.planning import PlanState

MOST_PASSES = 999


@in_one_go
def home(request):
    """The plan; and, sent, one thing done to it."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    simulated = here.plan.studio_kind == STAND_IN
    page = PlanPage(here.session, here.plan)
    form = PlanForm(initial=_usual(page), simulated=simulated)
    if request.method == "POST":
        to = request.POST.get("to", "")
        form = PlanForm(request.POST, simulated=simulated) if to == "anew" else form
        if to != "anew" or form.is_valid():
            return _done(request, here, page, to, form)
    context = {"page": page, "form": form, "session": here.session, "templates": templates.of_kind(PASS_PLAN)}
    context |= _state(page.state) | {"last_check": last_check(here.rig)}
    return render(request, "session/plan.html", context)


def _state(now: PlanState) -> dict:
    """How it goes, with where the pass is that is recorded."""
    run = now.recording
    return {"state": now} | (running_context(run) if run else {}) | ({"share": running_share(run)} if run else {})


def _usual(page: PlanPage) -> dict:
    row = page.row
    if row is None:
        return {"first_bar": 1, "last_bar": last_bar_of(page.session)}
    return {name: getattr(row, name) for name in ("first_bar", "last_bar", "gap_s", "repeat", "fast")}


def _done(request, here, page: PlanPage, to: str, form: PlanForm):
    try:
        if to == "anew":
            planning.plan_anew(here.session, here.plan, **form.chosen())
        elif to == "template":
            messages.success(request, beginning.lay_plan(here.session, here.plan, _kept(request).value))
        elif page.row is None:
            raise CannotSchedule("There is no plan yet. Make one first.")
        elif to == "keep template":
            messages.success(request, beginning.keep_plan(page.row))
        elif to == "start":
            planning.start(page.row)
        elif to in ("stop", "stop after"):
            planning.stop(page.row, after=to == "stop after")
            if to == "stop after":
                messages.success(request, "It stops when this pass has ended.")
        elif to == "move":
            place = whole(request.POST.get("pass"), 0, 0, MOST_PASSES)
            messages.success(request, planning.move(page.row, here.plan, request.POST.get("track", ""), place))
    except (BadBars, CannotSchedule) as error:
        messages.error(request, str(error))
    return redirect("session:plan")


def _kept(request) -> templates.Kept:
    kept = templates.found(PASS_PLAN, request.POST.get("template", ""))
    if kept is None:
        raise CannotSchedule("That template is gone. Choose another.")
    return kept


def state(request):
    """How it goes, polled by the page: it is loaded anew when a pass has ended."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    now = planning.plan_state(here.session)
    answer = render(request, "session/includes/plan_state.html", _state(now))
    answer["X-Finished"] = "0" if now.running and str(now.waits) == request.GET.get("waits", "") else "1"
    return answer
