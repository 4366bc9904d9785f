"""What stands on every page: the title row and the work line with its live facts."""

from dataclasses import dataclass

from django.http import HttpRequest

from hypotaxis.core.drawing.sheet import column_counts
from hypotaxis.core.findings.finding import Finding
from hypotaxis.records import journal
from hypotaxis.records.current import Desk, desk
from hypotaxis.records.models import Job, Pass, Sounding
from hypotaxis.records.plan import tempo_of


@dataclass(frozen=True)
class Step:
    """One step of the work line. wrong: how many things are wrong there."""

    number: int
    name: str
    url: str
    fact: str
    wrong: int = 0
    here: bool = False


def frame(request: HttpRequest) -> dict:
    """Context processor. A page that failed early still gets its frame, without facts."""
    match = request.resolver_match
    if match is None or getattr(request, "_bare", False):
        return {}
    here = desk(request)
    return {
        "frame": {
            "rig": here.rig,
            "session": here.session,
            "sessions": here.sessions,
            "pace": _pace(here),
            "steps": _steps(here, match.namespace),
            "findings": here.findings,
            "wrong": len(here.wrong),
            "undo": journal.last_done(here.rig),
            "redo": journal.first_undone(here.rig),
            "theme": request.COOKIES.get("hypotaxis-theme", "")
            if request.COOKIES.get("hypotaxis-theme") in ("day", "night")
            else "",
            "step": match.namespace,
        }
    }


def count(number: int, one: str, many: str = "") -> str:
    """ "1 box", "3 boxes", "no boxes"."""
    many = many or f"{one}s"
    return f"{number or 'no'} {one if number == 1 else many}"


def _pace(here: Desk) -> dict | None:
    if here.session is None:
        return None
    tempo = tempo_of(here.session)
    return {"bpm": f"{tempo.bpm_at(0):.4g}", "meter": f"{tempo.meters[0][1]}/{tempo.meters[0][2]}"}


def _steps(here: Desk, namespace: str) -> list[Step]:
    instruments = here.plan.instruments
    of_instruments: list[Finding] = [f for f in here.wrong if here.plan.instrument(f.about) or here.plan.loop(f.about)]
    cabling = [finding for finding in of_instruments if finding.socket]
    of_rig = len(here.wrong) - len(of_instruments) + len(cabling)
    boxes = column_counts(here.plan.rig)["boxes"]
    loose = f", {count(len(cabling), 'loose end')}" if cabling else ""
    takes = here.session.takes.kept().values_list("placement", flat=True) if here.session else []
    measured = sum(instrument.lateness_ms is not None for instrument in instruments)
    stale = sum(bool(one.stale) for one in here.latenesses.values()) if measured else 0
    facts = {
        "rig": (f"{count(boxes, 'box', 'boxes')}{loose}", of_rig),
        "instruments": (_instrument_fact(len(instruments), of_instruments), len(of_instruments) - len(cabling)),
        "sync": ("no clock sent yet", 0),
        "timing": (_timing_fact(measured, len(instruments), stale), stale),
        "session": (_session_fact(here, len(takes)), 0),
        "handover": (_handover_fact(here, takes), 0),
    }
    return [
        Step(number, name.capitalize(), f"{name}:home", fact, wrong, name == namespace)
        for number, (name, (fact, wrong)) in enumerate(facts.items(), start=1)
    ]


def _instrument_fact(number: int, wrong: list[Finding]) -> str:
    broken = len({finding.about for finding in wrong})
    if not number:
        return "none defined yet"
    return f"{number}, {broken} not ready" if broken else f"{number}, all ready"


def _timing_fact(measured: int, instruments: int, stale: int) -> str:
    own = Sounding.objects.filter(instrument_uid="", loop_uid="").count()
    recordings = count(own, "recording") if own else ""
    if not instruments:
        return recordings or "drop a recording here"
    return f"{measured} of {instruments} measured" + (f", {stale} stale" if stale else f", {recordings}" if own else "")


def _session_fact(here: Desk, takes: int) -> str:
    if here.session is None:
        return "no notes imported yet"
    run = Pass.objects.filter(session=here.session, job__state__in=Job.UNFINISHED).first()
    if run:
        return f"pass {run.number} is recording"
    return f"{here.session.name}, {count(takes, 'take')}"


def _handover_fact(here: Desk, takes) -> str:
    placed = sum(placement is not None for placement in takes)
    if here.session is None:
        return "nothing to hand over"
    return f"{count(placed, 'placed take')}"
