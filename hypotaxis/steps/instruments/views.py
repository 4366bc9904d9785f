"""The instruments' pages: one line each, opened in place; the try-out."""

from dataclasses import dataclass

from django.contrib import messages
from django.http import FileResponse, Http404
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.levels import WIDTH, LevelBar, level_bar
from hypotaxis.core.drawing.ruler import ChannelCell, channel_cells
from hypotaxis.core.plan import Instrument
from hypotaxis.core.rig.build import new_uid
from hypotaxis.core.rig.sentence import Piece, trip_sentence
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.session.tryout import usual_note
from hypotaxis.core.units import level_text
from hypotaxis.records.current import Desk, desk
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job, Take
from hypotaxis.steps.instruments.forms import InstrumentForm, TryOutForm
from hypotaxis.steps.instruments.services import defining, trying


@dataclass(frozen=True)
class Line:
    """One instrument as its ruled line shows it."""

    instrument: Instrument
    send: str
    box: str
    home: str
    findings: list
    cells: list[ChannelCell]
    sentence: tuple[Piece, ...]
    jitter_ms: float | None

    @property
    def wrong(self) -> list:
        return [finding for finding in self.findings if finding.severity != "worth knowing"]


def home(request, opened: str = "", **sheet):
    """All instruments; opened: uid of the one shown in full."""
    here = desk(request)
    lines = [_line(here, instrument) for instrument in here.plan.instruments]
    context = {"lines": lines, "opened": opened, "sheet": None, "standin": True}
    if opened:
        context |= _opened(here, opened)
    return render(request, "instruments/home.html", context | sheet)


def open_line(request, uid):
    """One instrument opened in place."""
    _instrument(desk(request), uid)
    return home(request, opened=str(uid))


def new(request):
    """Define an instrument; what the sheet already says is filled in."""
    here = desk(request)
    proposal = defining.propose(here.plan, request.GET.get("box", ""))
    return _edit(request, here, proposal, title="New instrument", button="Define it")


def edit(request, uid):
    """Change an instrument's definition."""
    here = desk(request)
    return _edit(request, here, _instrument(here, uid), title="Change the instrument", button="Keep")


@require_POST
def remove(request, uid):
    """Remove an instrument."""
    here = desk(request)
    instrument = _instrument(here, uid)
    defining.remove(here.rig, here.plan, instrument)
    messages.info(request, f"{instrument.name} is removed; its takes stay. Undo brings it back.")
    return redirect("instruments:home")


@require_POST
def try_out(request, uid):
    """Start a try-out."""
    here = desk(request)
    instrument = _instrument(here, uid)
    form = TryOutForm(request.POST)
    if not form.is_valid():
        return home(request, opened=str(uid), try_form=form)
    job = trying.start_tryout(here.rig, instrument.uid, form.cleaned_data)
    return redirect(f"{reverse('instruments:open', args=[uid])}?try={job.uid}#try-out")


def heard(request, job):
    """State of a try-out, polled by the page."""
    row = get_object_or_404(Job, uid=job, kind="try-out")
    answer = render(request, "instruments/includes/heard.html", _heard(row))
    answer["X-Finished"] = "1" if row.finished else "0"
    return answer


@require_POST
def cancel(request, job):
    """Stop a try-out."""
    row = get_object_or_404(Job, uid=job, kind="try-out")
    ask_to_cancel(str(row.uid))
    return redirect(f"{reverse('instruments:open', args=[row.about])}?try={row.uid}#try-out")


def sound(request, job):
    """What came back in a try-out."""
    path = trying.sound_path(str(job))
    if not path.exists():
        raise Http404
    return FileResponse(path.open("rb"), content_type="audio/wav")


def _edit(request, here: Desk, value: Instrument, *, title: str, button: str):
    known = here.plan.instrument(value.uid) is not None
    left, right = (*value.returns, "", "")[:2]
    initial = {
        "name": value.name,
        "box": value.box,
        "send": value.send,
        "channel": value.channel,
        "left": left,
        "right": right,
        "home_trim_db": value.home_trim_db,
    }
    form = InstrumentForm(request.POST or None, plan=here.plan, instrument=value if known else None, initial=initial)
    if request.method == "POST" and form.is_valid():
        chosen = form.cleaned_data
        instrument = Instrument(
            uid=value.uid if known else new_uid(),
            name=chosen["name"],
            box=chosen["box"],
            send=chosen["send"],
            channel=chosen["channel"],
            returns=form.returns(),
            home_trim_db=chosen["home_trim_db"],
            lateness_ms=value.lateness_ms,
            colour=value.colour,
        )
        defining.keep(here.rig, here.plan, instrument)
        return redirect("instruments:open", uid=instrument.uid)
    opened = value.uid if known else ""
    return home(request, opened=opened, sheet="edit", form=form, title=title, button=button)


def _line(here: Desk, instrument: Instrument) -> Line:
    rig = here.plan.rig
    box = rig.box(instrument.box)
    measured = Take.objects.measured().filter(instrument_uid=instrument.uid).first()
    return Line(
        instrument=instrument,
        send=rig.socket_text(instrument.send) if rig.find(instrument.send) else "",
        box=box.name if box else "a box that is gone",
        home=returns_text(rig, instrument.returns),
        findings=here.findings_about(instrument.uid),
        cells=channel_cells(here.plan, instrument.send, instrument.uid),
        sentence=trip_sentence(rig, instrument),
        jitter_ms=measured.lateness["jitter_ms"] if measured else None,
    )


def _opened(here: Desk, uid: str) -> dict:
    instrument = here.plan.instrument(uid)
    context = {"try_form": TryOutForm(initial={"note": usual_note(here.plan, instrument)})}
    job = Job.objects.filter(kind="try-out", uid=_uid_or_none(here.request.GET.get("try", ""))).first()
    if job and job.about == uid:
        context |= {"try_job": job} | _heard(job)
        context["try_form"] = TryOutForm(initial=job.result["wish"])
    return context


def _uid_or_none(text: str):
    from uuid import UUID

    try:
        return UUID(text)
    except ValueError:
        return None


@dataclass(frozen=True)
class HeardInput:
    """An input of a try-out as its row shows it."""

    name: str
    bar: LevelBar
    peak: str
    mine: bool
    moved: bool


def _heard(job: Job) -> dict:
    rows = [
        HeardInput(
            item["name"],
            level_bar(item["level"], item["peak"], item["clips"] > 0),
            level_text(item["peak"]) if item["peak"] > trying.FLOOR_DB else "−∞",
            item["mine"],
            item["moved"],
        )
        for item in job.result.get("inputs", [])
    ]
    return {"job": job, "result": job.result, "inputs": rows, "meter_width": WIDTH}


def _instrument(here: Desk, uid) -> Instrument:
    value = here.plan.instrument(str(uid))
    if value is None:
        raise Http404
    return value
