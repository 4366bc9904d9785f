"""The line check's page: a row a line, where it came home, what that says."""

from collections.abc import Sequence
from dataclasses import dataclass
from uuid import uuid4

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render

from hypotaxis.core.errors import CannotSchedule, DoesNotFit
from hypotaxis.core.findings.rules import check as check_rules
from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.linecheck.lines import SLOT_S, Line
from hypotaxis.core.linecheck.panel import omni_asked
from hypotaxis.core.linecheck.verdicts import Verdict
from hypotaxis.core.midi.scales import note_name
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.trips import return_sockets
from hypotaxis.core.studio import STAND_IN
from hypotaxis.core.units import level_text, signed
from hypotaxis.records.asked import whole
from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.records.journal import change_plan, edits_between
from hypotaxis.records.stamps import kept_with
from hypotaxis.steps.rig import checking
from hypotaxis.steps.rig.checking import LineCheck, Wish

WIDE, NARROW, MANY, EDGE = 28, 18, 16, 14
"""Of the lattice: from input to input, the same with more inputs than so many, and from its edge to the first."""


ANSWERS = {"yes": True, "no": False, "ask anew": None}


@dataclass(frozen=True)
class Column:
    """An input in the lattice. group: what it and its neighbours are called, at the first of them."""

    x: int
    short: str
    name: str
    group: str


@dataclass(frozen=True)
class Mark:
    """Of a line at an input. kind: "planned", "home" (as planned), "went" (elsewhere), "waits"; letter: of a pair."""

    x: int
    kind: str
    letter: str = ""


@dataclass(frozen=True)
class Row:
    """A line as the page lists it. place: among all of them."""

    place: int
    line: Line
    sent: str
    note: str
    marks: tuple[Mark, ...]
    verdict: Verdict | None
    state: str
    good: str
    peak: str
    late: str
    good_peak: str
    good_late: str
    first: str
    answered: bool
    """The person has said something of it."""


def home(request):
    """The lines and what was heard of them; sent, a check is begun or stopped."""
    here = in_use(request)
    if request.method == "POST":
        return _done(request, here)
    moment, check = _moment_of(here.plan), LineCheck(here.rig, here.plan)
    context = _context(here, check) | {"states": ".".join([moment, *_states(here, check)])}
    if key := request.GET.get("show", ""):
        context |= _shown(here, check, key, whole(request.GET.get("cause"), 0, 0, 9))
    return render(request, "rig/check.html", context)


def rows(request):
    """What has changed of them since they were asked for last, polled while it goes on."""
    here = in_use(request)
    moment, (at, *held) = _moment_of(here.plan), request.headers.get("X-State", "").split(".")
    if at == moment:
        answer = HttpResponse(status=204)
        answer["X-Finished"] = "0"
        return answer
    check = LineCheck(here.rig, here.plan)
    states = _states(here, check)
    if held == states:
        answer = HttpResponse(status=204)
    elif held[:1] == states[:1] and len(held) == len(states):
        places = [place for place, (was, is_) in enumerate(zip(held[2:], states[2:], strict=True)) if was != is_]
        answer = render(request, "rig/includes/check_changed.html", _context(here, check, places))
    else:
        answer = render(request, "rig/includes/check_rows.html", _context(here, check))
    answer["X-State"] = ".".join([moment, *states])
    answer["X-Finished"] = "0" if check.running else "1"
    return answer


def _moment_of(plan: Plan) -> str:
    """The same as long as nothing changes that the lines and what was heard of them are told by. Asked for before it is
    read, so that what changes meanwhile is seen the next time."""
    return kept_with(plan, ("work", "soundings", "takes"), _new_moment)


def _new_moment(_: Plan) -> str:
    return uuid4().hex


def _states(here: InUse, check: LineCheck) -> list[str]:
    """What is shown, in a few digits each: the table without its rows, the sum below it, then row by row. They hold
    while the program runs."""
    shown = [(_mark_of(here.plan), check.running, len(check.lines))]
    message = check.job.message if check.job else ""
    shown += [(len(check.verdicts), len(check.differing), check.checked.probing, message)]
    for line in check.lines:
        one, before = check.heard.get(line.key), check.good.get(line.key)
        said = (check.verdicts.get(line.key), one and one.first, bool(one and one.told), line.key == check.sounds)
        shown += [(line.key, *said, before and (before.day, before.heard))]
    return [f"{hash(one) & 0xFFFFFFFF:x}" for one in shown]


@kept_with_it
def _mark_of(_: Plan) -> str:
    """Tells this value of the plan from any other."""
    return uuid4().hex


def _context(here: InUse, check: LineCheck, places: Sequence[int] | None = None) -> dict:
    """places: of the lines whose rows are shown; None = of all."""
    inputs = [(socket.uid, socket.name) for _, socket in return_sockets(here.plan.rig)]
    pitch = WIDE if len(inputs) <= MANY else NARROW
    columns = {uid: EDGE + pitch * place for place, (uid, _) in enumerate(inputs)}
    heard, wrong = len(check.verdicts), check.differing
    shown = range(len(check.lines)) if places is None else places
    return {
        "check": check,
        "rows": [_row(here, check, place, columns) for place in shown],
        "inputs": _columns(inputs, columns) if places is None else (),
        "width": 2 * EDGE + pitch * max(0, len(inputs) - 1),
        "heard": heard,
        "wrong": wrong,
        "again": ",".join(wrong),
        "left": [line.key for line in check.lines if line.key not in check.verdicts] if heard else [],
        "left_s": round(SLOT_S * (len(check.lines) - heard)),
        "seconds": round(SLOT_S * (len(check.lines) + len(omni_asked(here.plan, check.lines)))),
        "simulated": here.plan.studio_kind == STAND_IN,
    }


def _columns(inputs: list[tuple[str, str]], places: dict[str, int]) -> list[Column]:
    found, before = [], ""
    for uid, name in inputs:
        group, _, short = name.rpartition(" ")
        found.append(Column(places[uid], short[:3], name, group[:10] if group != before else ""))
        before = group
    return found


def _row(here: InUse, check: LineCheck, place: int, columns: dict[str, int]) -> Row:
    line = check.lines[place]
    verdict, known = check.verdicts.get(line.key), check.heard.get(line.key)
    moved = verdict.heard.moved if verdict else ()
    letters = dict(zip(line.inputs, ("L", "R") if len(line.inputs) == 2 else ("",), strict=False))
    marks = [
        Mark(columns[uid], ("home" if uid in moved else "planned") if verdict else "waits", letters[uid])
        for uid in line.inputs
        if uid in columns
    ]
    marks += [Mark(columns[uid], "went") for uid in moved if uid not in line.inputs and uid in columns]
    sent = f"{here.plan.rig.socket_text(line.send)}, ch {line.channel}" if not line.is_effect else "audio, a short tone"
    note = note_name(line.note) if not line.is_effect else ""
    before = check.good.get(line.key)
    own = [one for uid in line.inputs if before and (one := before.heard.of(uid)) and one.moved]
    peak, late = max((one.peak_db for one in own), default=None), min((one.late_ms for one in own), default=None)
    figures = [_level(verdict.peak_db), _ms(verdict.late_ms) or "–"] if verdict else ["", ""]
    figures += [_level(peak), _ms(late)] if verdict and not verdict.fine else ["", ""]
    state = "sent; listening" if line.key == check.sounds else ("waits" if check.running else "not checked yet")
    return Row(
        place,
        line,
        sent,
        note,
        tuple(marks),
        verdict,
        state,
        before.day[:10] if before else "",
        *figures,
        known.first if known else "",
        bool(known and known.told),
    )


def _level(db: float | None) -> str:
    return "" if db is None else level_text(db)


def _ms(value: float | None) -> str:
    return "" if value is None else signed(value, 1)


def _shown(here: InUse, check: LineCheck, key: str, number: int) -> dict:
    """What one move in the plan would change."""
    verdict = check.verdicts.get(key)
    causes = verdict.causes if verdict else ()
    if number >= len(causes) or causes[number].fix is None:
        return {}
    try:
        after = causes[number].fix.apply(here.plan)
    except DoesNotFit:
        return {}
    known = {one.cause for one in here.findings}
    new = [one for one in check_rules(after) if one.cause not in known]
    edits = len(edits_between(here.plan, after))
    return {"shown": key, "cause": causes[number], "number": number, "new": new, "edits": edits}


def _done(request, here: InUse):
    to = request.POST.get("to", "")
    try:
        if to == "stop":
            checking.stop(here.rig)
        elif to == "fix":
            _fix(request)
        elif to in ANSWERS:
            key, question = request.POST.get("line", ""), request.POST.get("question", "")[:20]
            checking.answer(here.rig, key, question, ANSWERS[to])
        else:
            only = tuple(key for key in request.POST.get("only", "").split(",") if key)
            fast = request.POST.get("fast") == "on" and here.plan.studio_kind == STAND_IN
            checking.start(here.rig, here.plan, Wish(only, fast), token=request.POST.get("token", ""))
    except (CannotSchedule, DoesNotFit) as error:
        messages.error(request, str(error))
    return redirect("rig:check")


@in_one_go
def _fix(request) -> None:
    here = in_use(request)
    verdict = LineCheck(here.rig, here.plan).verdicts.get(request.POST.get("line", ""))
    number = whole(request.POST.get("cause"), 0, 0, 9)
    if verdict is None or number >= len(verdict.causes) or verdict.causes[number].fix is None:
        raise Http404
    fix = verdict.causes[number].fix
    change_plan(here.rig, fix.words[0].lower() + fix.words[1:], here.plan, fix.apply(here.plan))
    messages.success(request, f"Done: {fix.words}. Undo takes it back; check the line again.")
