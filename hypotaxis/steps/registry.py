"""The steps of the work in their order: number, name, address and live fact of each. Frame, keys and grid read them."""

from collections.abc import Callable
from dataclasses import dataclass

from hypotaxis.core.drawing.sheet import column_counts
from hypotaxis.core.findings.finding import Finding
from hypotaxis.core.findings.sync import NAMES as SYNC_FINDINGS
from hypotaxis.core.sync.following import clocked
from hypotaxis.core.units import counted
from hypotaxis.records.current import InUse
from hypotaxis.records.models import Sounding
from hypotaxis.records.stamps import kept_while
from hypotaxis.records.standing import every_take
from hypotaxis.records.under_way import recorded_now


@dataclass(frozen=True)
class Fact:
    """What a step's line tells now. wrong: how many things are wrong there."""

    told: str
    wrong: int = 0


@dataclass(frozen=True)
class Step:
    """A step. name: of its addresses, too; fact: what it tells of a desk."""

    number: int
    name: str
    fact: Callable[[InUse], Fact]

    @property
    def title(self) -> str:
        return self.name.capitalize()

    @property
    def url(self) -> str:
        """The name of its first page's address."""
        return f"{self.name}:home"


def _of_instruments(here: InUse) -> list[Finding]:
    return [found for found in here.wrong if here.plan.instrument(found.about) or here.plan.loop(found.about)]


def _cabling(here: InUse) -> list[Finding]:
    """What is wrong with an instrument, but to be mended on the rig."""
    return [found for found in _of_instruments(here) if found.socket]


def _rig(here: InUse) -> Fact:
    boxes, loose = column_counts(here.plan.rig)["boxes"], len(_cabling(here))
    ends = f", {counted(loose, 'loose end')}" if loose else ""
    elsewhere = len(_of_instruments(here)) + len(_of_sync(here))
    return Fact(f"{counted(boxes, 'box', 'boxes')}{ends}", len(here.wrong) - elsewhere + loose)


def _instruments(here: InUse) -> Fact:
    number, wrong = len(here.plan.instruments), _of_instruments(here)
    broken = len({found.about for found in wrong})
    if not number:
        return Fact("none defined yet", len(wrong) - len(_cabling(here)))
    told = f"{number}, {broken} not ready" if broken else f"{number}, all ready"
    return Fact(told, len(wrong) - len(_cabling(here)))


def _of_sync(here: InUse) -> list[Finding]:
    return [finding for finding in here.wrong if finding.rule in SYNC_FINDINGS]


def _sync(here: InUse) -> Fact:
    heard = clocked(here.plan)
    wrong = _of_sync(here)
    leader = here.plan.rig.box(here.plan.rig.leader)
    if leader:
        return Fact(f"{leader.name} leads", len(wrong))
    if not heard:
        return Fact("no clock is sent", len(wrong))
    following = [uid for uid in heard if here.plan.rig.box(uid).setup.takes_clock]
    return Fact(f"clock to {len(following)}", len(wrong))


def _timing(here: InUse) -> Fact:
    own = kept_while(("soundings",), "own recordings", _own_recordings)
    recordings = counted(own, "recording") if own else ""
    instruments, known = here.plan.instruments, here.latenesses.known
    if not instruments:
        return Fact(recordings or "drop a recording here")
    measured = sum(known[instrument.uid].own for instrument in instruments)
    stale = sum(bool(one.stale) for one in known.values())
    more = f", {stale} stale" if stale else f", {recordings}" if own else ""
    return Fact(f"{measured} of {len(instruments)} measured{more}", stale)


def _own_recordings() -> int:
    return Sounding.objects.filter(instrument_uid="", loop_uid="").count()


def _session(here: InUse) -> Fact:
    if here.session is None:
        return Fact("no notes imported yet")
    run = recorded_now(here.session)
    if run:
        return Fact(f"pass {run.number} is recording")
    return Fact(f"{here.session.name}, {counted(len(every_take(here.session)), 'take')}")


def _handover(here: InUse) -> Fact:
    if here.session is None:
        return Fact("nothing to hand over")
    placed = sum(take.placed for take in every_take(here.session))
    return Fact(counted(placed, "placed take"))


STEPS = tuple(
    Step(number, name, fact)
    for number, (name, fact) in enumerate(
        {
            "rig": _rig,
            "instruments": _instruments,
            "sync": _sync,
            "timing": _timing,
            "session": _session,
            "handover": _handover,
        }.items(),
        start=1,
    )
)
