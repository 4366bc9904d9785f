"""The page of a track's notes: seen against a ruler of keys, chosen, and mended."""

import json
from dataclasses import dataclass
from urllib.parse import quote

import numpy as np
from django.contrib import messages
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.levels import WIDTH
from hypotaxis.core.errors import BadBars, CannotSchedule
from hypotaxis.core.session import editing
from hypotaxis.core.session.arrange import MOST_BARS
from hypotaxis.core.session.editing import MOST_PASTED, Edited
from hypotaxis.core.session.score import NOTE
from hypotaxis.core.session.straighten import DIVISIONS, Straightening, straightened_some
from hypotaxis.core.units import counted
from hypotaxis.records.asked import whole
from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job, Track
from hypotaxis.steps.session.note_forms import AddForm, ChosenForm
from hypotaxis.steps.session.roll_markup import notes_markup, stems_markup
from hypotaxis.steps.session.services import part_loop
from hypotaxis.steps.session.services.note_page import NotePage, Shown
from hypotaxis.steps.session.services.picture import meter_rows
from hypotaxis.steps.session.written import check_open, written_track

FARTHEST = 1_000_000
"""Steps of the division that notes are moved by at most."""


@in_one_go
def home(request, uid):
    """The notes of a track; and, sent, one thing done to the chosen ones."""
    here = in_use(request)
    track, shown = written_track(here, uid), _shown(request)
    if request.method != "POST":
        return _page(request, here, NotePage(track, here.plan, shown))
    page = NotePage(track, here.plan, shown)
    chosen, form, add = (), ChosenForm(request.POST), AddForm(request.POST)
    try:
        check_open(track)
        doing = _doing(request, page, form, add)
        edited = _done(doing)
        chosen = edited.chosen
        if doing.told:
            messages.success(request, doing.told)
    except BadBars as error:
        messages.error(request, str(error))
    if request.headers.get("X-Soft"):
        # What was chosen stays chosen, so the page answers by itself.
        return _page(request, here, NotePage(written_track(here, uid), here.plan, shown, chosen))
    return redirect(_address(track, page.shown))


@dataclass
class Doing:
    """One thing that is done to chosen notes. told: what is said of it, where the picture does not say it."""

    page: NotePage
    to: str
    asked: dict[str, str]
    places: np.ndarray
    form: ChosenForm
    add: AddForm
    told: str = ""

    def whole(self, name: str, default: int, low: int, high: int) -> int:
        """A whole number of what was sent."""
        return whole(self.asked.get(name), default, low, high)


def _doing(request, page: NotePage, form: ChosenForm, add: AddForm) -> Doing:
    chosen = [int(one) for one in request.POST.get("chosen", "").split(",") if one.isdecimal() and len(one) < 10]
    if chosen and request.POST.get("stamp") != page.stamp:
        raise BadBars("The notes have changed since this page was shown. Choose them once more.")
    places = editing.checked(page.part.notes, chosen)
    return Doing(page, request.POST.get("to", ""), request.POST.dict(), places, form, add)


def _done(doing: Doing) -> Edited:
    act = ACTS.get(doing.to)
    if act is None:
        return Edited(doing.page.part.notes, ())
    if doing.to not in WITHOUT_CHOICE and not len(doing.places):
        raise BadBars("No note is chosen. Draw a rectangle around some, click one, or a key or bar at the edge.")
    return act(doing)


def _move(doing: Doing) -> Edited:
    steps = doing.whole("steps", 0, -FARTHEST, FARTHEST)
    up, ticks = doing.whole("up", 0, -127, 127), round(steps * doing.page.step_ticks)
    pitches = doing.page.pitches_by_rows(doing.places, up) if up else None
    return doing.page.change(
        f"{counted(len(doing.places), 'note')} moved",
        lambda notes, end: editing.moved(notes, doing.places, ticks=ticks, pitches=pitches, end_tick=end),
    )


def _lengthen(doing: Doing) -> Edited:
    ticks = round(doing.whole("steps", 0, -FARTHEST, FARTHEST) * doing.page.step_ticks)
    return doing.page.change(
        "Length", lambda notes, end: editing.lengthened(notes, doing.places, ticks=ticks, end_tick=end)
    )


def _velocity(doing: Doing) -> Edited:
    by = doing.whole("by", 0, -127, 127)
    return doing.page.change("Velocity", lambda notes, end: editing.louder(notes, doing.places, by=by))


def _remove(doing: Doing) -> Edited:
    doing.told = f"{counted(len(doing.places), 'note')} taken away; undo brings them back."
    return doing.page.change("Notes away", lambda notes, end: editing.removed(notes, doing.places))


def _fields(doing: Doing) -> Edited:
    """What the form at the side says: transposed, velocity set or scaled, straightened."""
    form, page = doing.form, doing.page
    if not form.is_valid():
        raise BadBars(form.told)
    what, chosen = doing.asked.get("what", ""), form.cleaned_data
    if what == "transpose":
        how = {"steps": chosen["steps"] or 0, "scale": chosen["scale"], "root": int(chosen["root"])}
        return page.change("Transposed notes", lambda notes, end: editing.transposed(notes, doing.places, **how))
    if what == "velocity":
        share = 1.0 if chosen["share"] is None else chosen["share"] / 100
        how = {"share": share, "to": chosen["velocity"]}
        return page.change("Velocity", lambda notes, end: editing.louder(notes, doing.places, **how))
    how = Straightening(division=page.shown.division, strength=(chosen["strength"] or 0) / 100)
    return page.change(
        "Straightened notes", lambda notes, end: straightened_some(notes, doing.places, page.tempo, how, end_tick=end)
    )


def _paste(doing: Doing) -> Edited:
    """Notes that were copied, here or from another part: [[ticks from the first, duration, note, velocity], …]."""
    page = doing.page
    bar = doing.whole("bar", page.shown.bar, 1, page.last_bar)
    return page.change(
        "Notes laid in",
        lambda notes, end: editing.laid(notes, _copied(doing), at_tick=page.tempo.bar_tick(bar), end_tick=end),
    )


def _copied(doing: Doing) -> np.ndarray:
    """What was copied, in this session's ticks. Raises BadBars."""
    try:
        sent = json.loads(doing.asked.get("copied", ""))
        pace, rows = int(sent["ticks"]), sent["notes"]
        if not (1 <= pace <= 100_000 and isinstance(rows, list) and 0 < len(rows) <= MOST_PASTED):
            raise ValueError
        notes = np.array([tuple(map(int, row)) for row in rows], dtype=[(name, "i8") for name in NOTE.names])
    except (ValueError, TypeError, KeyError, OverflowError, RecursionError) as error:
        raise BadBars("Nothing that was copied here can be laid in. Choose notes and copy them first.") from error
    low, high = ((0, 0, 0, 1), (2**40, 2**40, 127, 127))
    for name, least, most in zip(NOTE.names, low, high, strict=True):
        if (notes[name] < least).any() or (notes[name] > most).any():
            raise BadBars("What was copied is no row of notes. Copy it once more.")
    made = notes.astype(NOTE)
    for name in ("tick", "duration"):
        made[name] = np.rint(notes[name] * (doing.page.tempo.ticks_per_quarter / pace))
    return made


def _add(doing: Doing) -> Edited:
    form, page = doing.add, doing.page
    if not form.is_valid():
        raise BadBars(form.told)
    tick, length, note, velocity = form.made(page.tempo, page.last_bar, page.step_ticks)
    one = np.array([(0, length, note, velocity)], dtype=NOTE)
    return page.change("A note", lambda notes, end: editing.laid(notes, one, at_tick=tick, end_tick=end))


def _draw(doing: Doing) -> Edited:
    """A note at a step of the bars shown, in a row of the picture."""
    page = doing.page
    row = doing.whole("row", 0, 0, len(page.rows) - 1)
    tick = page.roll.first_tick + round(doing.whole("steps", 0, 0, FARTHEST) * page.step_ticks)
    one = np.array([(0, max(1, round(page.step_ticks)), page.rows[row].note, 100)], dtype=NOTE)
    return page.change("A note", lambda notes, end: editing.laid(notes, one, at_tick=tick, end_tick=end))


ACTS = {
    "move": _move,
    "lengthen": _lengthen,
    "velocity": _velocity,
    "remove": _remove,
    "fields": _fields,
    "paste": _paste,
    "add": _add,
    "draw": _draw,
}
WITHOUT_CHOICE = ("paste", "add", "draw")


def _page(request, here: InUse, page: NotePage):
    going = next(iter(part_loop.loops_of(page.track)), None)
    context = {
        "page": page,
        "track": page.track,
        "session": here.session,
        "going": going,
        "trouble": "" if going else part_loop.trouble_of(page.track),
        "chosen_form": ChosenForm(),
        "divisions": DIVISIONS,
        "add_form": AddForm(initial={"bar": page.shown.bar}, auto_id="add_%s"),
        "meter_width": WIDTH,
        "roll_notes": notes_markup(page.roll.notes, frozenset(page.chosen), page.roll.row_h),
        "roll_stems": stems_markup(page.roll.notes, frozenset(page.chosen)),
    }
    context |= _going(page, going) if going else {}
    if request.headers.get("X-Soft") and request.method == "POST":
        # The picture alone: nothing else of the page follows from the notes.
        return render(request, "session/includes/notes_parts.html", context)
    return render(request, "session/notes.html", context)


@require_POST
def play(request, uid):
    """Let the bars shown go round on all boxes, or stop it."""
    here = in_use(request)
    page = NotePage(written_track(here, uid), here.plan, _shown(request))
    for job in part_loop.loops_of(page.track):
        ask_to_cancel(str(job.uid))
    if request.POST.get("to", "") != "stop":
        try:
            part_loop.start_loop(
                page.track, here.plan, part_loop.LoopWish(first_bar=page.shown.bar, last_bar=page.window_end)
            )
        except CannotSchedule as error:
            messages.error(request, str(error))
    return redirect(_address(page.track, page.shown))


def looping(request, uid, job):
    """How it goes, polled by the page."""
    here = in_use(request)
    page = NotePage(written_track(here, uid), here.plan, _shown(request))
    row = get_object_or_404(Job, uid=job, kind=part_loop.KIND, about=str(page.track.uid))
    answer = render(request, "session/includes/notes_looping.html", {"page": page} | _going(page, row))
    answer["X-Finished"] = "1" if row.finished else "0"
    return answer


def _going(page: NotePage, job: Job) -> dict:
    now = part_loop.now_of(page.track, job)
    roll = page.roll
    return {
        "going": job,
        "wish": now.wish,
        "at": now.at,
        "head_percent": round((now.tick - roll.first_tick) / roll.ticks * 100, 2),
        "head_here": not now.wish.pattern and roll.first_tick <= now.tick < roll.first_tick + roll.ticks,
        "meters": meter_rows(part_loop.heard_of(job).levels),
    }


def _shown(request) -> Shown:
    asked = request.GET
    controller = whole(asked.get("controller"), -9, -9, 127)
    return Shown(
        bar=whole(asked.get("bar"), 1, 1, MOST_BARS),
        bars=whole(asked.get("bars"), 4, 1, 64),
        division=asked.get("division", "1/16"),
        controller=None if controller == -9 else controller,
    )


def _address(track: Track, shown: Shown) -> str:
    return f"{reverse('session:notes', args=[track.uid])}?{quote(shown.query, safe='=&+/')}"
