"""The page of a track's patterns: steps by voices, laid along the bars."""

from urllib.parse import urlencode

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.text import slugify
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.levels import WIDTH
from hypotaxis.core.errors import BadBars, CannotSchedule, UnreadableFile
from hypotaxis.core.grid.values import Step
from hypotaxis.core.session.arrange import MOST_BARS
from hypotaxis.core.session.templates import GRID
from hypotaxis.core.units import signed
from hypotaxis.records import templates
from hypotaxis.records.asked import whole
from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job, Track
from hypotaxis.records.plan import last_bar_of
from hypotaxis.steps.session.grid_acts import ACTS, SHEETS, Doing
from hypotaxis.steps.session.grid_forms import BorrowForm, GrowForm, OrderForm, StepForm, TableForm
from hypotaxis.steps.session.services import grids, part_loop
from hypotaxis.steps.session.services.grid_page import GridPage, Place
from hypotaxis.steps.session.services.picture import meter_rows
from hypotaxis.steps.session.written import check_open, written_track


def home(request, uid):
    """The patterns of a track; and, sent, one thing done to them."""
    here = in_use(request)
    page = GridPage(written_track(here, uid), here.plan, _place(request))
    return _done(request, here, page) if request.method == "POST" else _page(request, here, page)


def _page(request, here: InUse, page: GridPage, **forms):
    track = page.track
    going = next(iter(part_loop.loops_of(track)), None)
    step = page.step or Step(page.place.step)
    first_step = {"velocity": step.velocity, "chance": step.chance, "length": step.length, "repeats": step.repeats}
    tracks = grids.patterns_of_others(track)
    context = {
        "page": page,
        "track": track,
        "session": here.session,
        "going": going,
        "trouble": "" if going else part_loop.trouble_of(track),
        "step_form": StepForm(initial=first_step | {"place": page.place.step + 1}),
        "order_form": OrderForm(initial={"order": page.order_typed}),
        "grow_form": GrowForm(initial={"seed": 1}, voices=page.voices),
        "borrow_form": BorrowForm(patterns=tracks),
        "table_form": TableForm(),
        "borrowable": bool(tracks),
        "meter_width": WIDTH,
        "first_note": page.voices[0].note if page.voices else None,
        "step_number": page.place.step + 1,
        "sheet": request.GET.get("sheet", ""),
        "templates": templates.of_kind(GRID) if request.GET.get("sheet") == "template" else [],
    }
    if page.sum:
        context |= {
            "sum_told": signed(page.sum.whole),
            "sum_swing": signed(page.sum.swing),
            "sum_shift": signed(page.sum.shift),
            "swing_told": f"{page.grid.voice(page.place.note).swing:g}",
        }
    if going:
        context |= _going(page, going)
    soft = request.headers.get("X-Soft") and request.method == "POST"
    return render(request, f"session/{'includes/grid_parts' if soft else 'grid'}.html", context | forms)


@in_one_go
def _done(request, here: InUse, page: GridPage):
    """Do what is asked for, and lead back to where it was asked."""
    doing, to = Doing(request, here, page.track, page.place, page.voices), request.POST.get("to", "")
    place, told = page.place, ""
    try:
        check_open(page.track)
        if to in ACTS:
            told, place = ACTS[to](doing)
        elif to in SHEETS:
            kind, act = SHEETS[to]
            form = kind(doing)
            if not form.is_valid():
                return _page(request, here, page, **{f"{to}_form": form, "sheet": to})
            told, place = act(doing, form.cleaned_data)
    except (BadBars, CannotSchedule, UnreadableFile) as error:
        messages.error(request, str(error))
    else:
        if told:
            messages.success(request, told)
    if request.headers.get("X-Soft"):
        # What was changed is shown at its place; the rest of the page stays as it is.
        answer = _page(request, here, GridPage(page.track, here.plan, place))
        answer["X-Address"] = _address(page.track, place)
        return answer
    return redirect(_address(page.track, place))


# --- heard on the box


@require_POST
def play(request, uid):
    """Let it go round, or stop it."""
    here = in_use(request)
    page = GridPage(written_track(here, uid), here.plan, _place(request))
    track, place = page.track, page.place
    for job in part_loop.loops_of(track):
        ask_to_cancel(str(job.uid))
    to = request.POST.get("to", "")
    if to != "stop":
        bars = (place.bar, place.bar) if to == "pattern" else (1, last_bar_of(here.session))
        wish = part_loop.LoopWish(place.pattern if to == "pattern" else "", *bars)
        try:
            part_loop.start_loop(track, here.plan, wish)
        except CannotSchedule as error:
            messages.error(request, str(error))
    return redirect(_address(track, place))


def looping(request, uid, job):
    """How it goes, polled by the page."""
    here = in_use(request)
    page = GridPage(written_track(here, uid), here.plan, _place(request))
    track = page.track
    row = get_object_or_404(Job, uid=job, kind=part_loop.KIND, about=str(track.uid))
    answer = render(request, "session/includes/grid_looping.html", {"page": page, "track": track} | _going(page, row))
    answer["X-Finished"] = "1" if row.finished else "0"
    return answer


def _going(page: GridPage, job: Job) -> dict:
    """Where what goes round is, and what comes home."""
    now = part_loop.now_of(page.track, job)
    beats, unit = page.meter
    return {
        "going": job,
        "wish": now.wish,
        "at": now.at,
        "head_x": round(page.drawn.x_of(min(now.quarters, beats * 4 / unit - 1e-6), 4 / unit), 1),
        "head_here": (now.wish.pattern or page.letter_at(now.at.bar)) == page.place.pattern,
        "meters": meter_rows(part_loop.heard_of(job).levels),
    }


def table(request, uid):
    """The patterns as a table."""
    here = in_use(request)
    track = written_track(here, uid)
    answer = HttpResponse(grids.table_of(track, here.plan), content_type="text/csv; charset=utf-8")
    name = "-".join(slugify(one) or "untitled" for one in (track.session.name, track.name, "grid"))
    answer["Content-Disposition"] = f'attachment; filename="{name[:100]}.csv"'
    return answer


# --- where


def _place(request) -> Place:
    asked = request.GET
    note = whole(asked.get("note"), -1, -1, 127)
    return Place(
        asked.get("pattern", "")[:1],
        whole(asked.get("bar"), 1, 1, MOST_BARS),
        None if note < 0 else note,
        whole(asked.get("step"), 1, 1, 128) - 1,
    )


def _address(track: Track, place: Place) -> str:
    asked = {"bar": place.bar} | ({"pattern": place.pattern} if place.pattern else {})
    if place.note is not None:
        asked |= {"note": place.note, "step": place.step + 1}
    return f"{reverse('session:grid', args=[track.uid])}?{urlencode(asked)}"
