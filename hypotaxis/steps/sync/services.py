"""What a person changes of sync, and the rows of its page."""

from dataclasses import asdict, dataclass, replace
from datetime import datetime
from fractions import Fraction

from hypotaxis.core.drawing.lattice import Lattice, RowPicture, Scale, lattice, row
from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.findings.finding import counted, listed
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.change import set_box, set_sockets
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.rig.values import Box, Socket
from hypotaxis.core.sync.course import Course
from hypotaxis.core.sync.divisions import division_of, period_ms, rate_hz
from hypotaxis.core.sync.following import Clocked, bar_ticks, clocked, costs, cures, misstep_told, sending_of, walk
from hypotaxis.core.sync.misstep import TICKS_A_SIXTEENTH
from hypotaxis.core.sync.sending import position_of, song_position
from hypotaxis.core.sync.values import (
    AS_THE_HOST,
    NOTHING,
    OBEYS,
    OSCILLATOR,
    POSITION,
    START_AGAIN,
    Following,
    LoopSetting,
    Sending,
)
from hypotaxis.core.sync.wander import told as time_told
from hypotaxis.core.sync.wander import wander
from hypotaxis.core.units import CLOCKS_A_QUARTER
from hypotaxis.records.journal import Edit, change_plan, change_session
from hypotaxis.records.models import Proof, Rig, Session
from hypotaxis.steps.sync.forms import PortForm
from hypotaxis.steps.sync.proving import is_stale, verdict


def set_loop(session: Session, setting: LoopSetting) -> None:
    """Loop other bars of a session."""
    change_session(session, _loop_told(setting), [Edit("session", str(session.uid), {"loop": asdict(setting)})])


def _loop_told(setting: LoopSetting) -> str:
    if setting.bars is None:
        return "No loop"
    return f"Loop {setting.bars} bars from bar {setting.first_bar}, {setting.times} times"


def moved(setting: LoopSetting, course: Course | None, edge: str, by: int, *, last_bar: int) -> LoopSetting:
    """A loop with one of its ends ("begin" or "end") moved by bars; it keeps one bar at least, and ends with the song.
    Where there was none yet it is the whole song."""
    bars = setting.bars
    if bars is None:
        if course is None:
            return setting
        first, end = (course.tempo.position(tick).bar for tick in course.loop)
        setting, bars = replace(setting, first_bar=first), end - first
    if edge == "begin":
        last = setting.first_bar + bars
        first = min(last - 1, max(1, setting.first_bar + by))
        return replace(setting, first_bar=first, bars=last - first, begin_bar=min(setting.begin_bar, first))
    return replace(setting, bars=max(1, min(bars + by, last_bar + 1 - setting.first_bar)))


def set_sending(rig: Rig, plan: Plan, port: Socket, sending: Sending) -> None:
    """Change what a port sends to boxes that follow."""
    after = set_sockets(plan, {port.uid: {"sending": sending}})
    change_plan(rig, f"sync by {plan.rig.socket_text(port.uid)}", plan, after)


def set_clock(rig: Rig, plan: Plan, port: Socket, *, on: bool) -> None:
    """Send clock on a port, or no longer."""
    after = set_sockets(plan, {port.uid: {"clock": on}})
    change_plan(rig, f"{'clock' if on else 'no clock'} on {plan.rig.socket_text(port.uid)}", plan, after)


def set_following(rig: Rig, plan: Plan, box: Box, following: Following) -> None:
    """Change what a box makes of the clock it hears."""
    change_plan(rig, f"how {box.name} follows", plan, set_box(plan, box.uid, following=following))


@dataclass(frozen=True)
class ProofTold:
    """What the newest proof of a box says. amiss: it is not in step, or not as predicted; trouble: why there is no
    answer."""

    told: str
    when: datetime
    stale: bool
    amiss: bool
    trouble: str


@dataclass(frozen=True)
class BoxRow:
    """A box that hears clock. told: what goes by it; by: the ports it comes from; slips: since when, "" = never."""

    box: Box
    told: str
    by: str
    picture: RowPicture | None
    slips: str
    proof: ProofTold | None = None


@dataclass(frozen=True)
class PortRow:
    """A port that sends clock. must: what is to be set on its boxes; sent: bytes at the wrap; so_that, slips: in step,
    or how far it parts; cure: what to send instead, "" = nothing does or has to."""

    port: Socket
    name: str
    boxes: str
    form: PortForm
    must: tuple[str, ...]
    sent: tuple[str, ...]
    so_that: str
    slips: bool
    cure: str
    needle_x: float


@dataclass(frozen=True)
class SyncPage:
    """The whole page."""

    head: Lattice | None
    boxes: tuple[BoxRow, ...]
    ports: tuple[PortRow, ...]
    silent: tuple[tuple[str, str], ...]
    """(uid, name) of ports to boxes that send no clock."""
    free: tuple[str, ...]
    """Sentences about boxes that follow nobody."""


def page_of(rig: Rig, plan: Plan, px_a_bar: int, form: PortForm | None = None) -> SyncPage:
    """The page for a plan. form: of a port whose input was refused."""
    course, heard = plan.song, clocked(plan)
    proofs = {row.box_uid: row for row in rig.proofs.select_related("job").order_by("made")}
    head, scale = lattice(course, px_a_bar) if course else (None, None)
    boxes = [plan.rig.box(uid) for uid in heard]
    shown = [box for box in boxes if box.setup.takes_clock or box.following.plays]
    ports = [end.socket for end in ports_of(plan.rig, "out")]
    return SyncPage(
        head=head,
        boxes=tuple(_box_row(plan, head, scale, box, heard[box.uid], proofs) for box in shown),
        ports=tuple(_port_row(plan, course, one, shown, heard, form) for one in ports if one.clock),
        silent=tuple(
            (one.uid, plan.rig.socket_text(one.uid))
            for one in ports
            if not one.clock and one.duty in ("", "sends to boxes")
        ),
        free=tuple(_free(plan, box) for box in plan.rig.boxes if _is_free(box, heard)),
    )


def _box_row(plan: Plan, head: Lattice | None, scale: Scale | None, box: Box, ways: list[Clocked], proofs) -> BoxRow:
    course = plan.song
    sending = sending_of(plan, ways[0].port)
    walked = walk(course, sending, box.following) if course else []
    picture = None
    if head and scale and walked:
        picture = row(scale, box.following, walked, _sent_in_words(course, sending))
        lines, edges = head.behind(picture.height)
        picture = replace(picture, lines=lines, edges=edges)
    first = next((number for number, ahead in enumerate(walked) if ahead), None)
    times = {0: "from the beginning", 1: "from the second time on", 2: "from the third time on"}
    slips = "" if first is None else f"slips {times.get(first, f'from time {first + 1} on')}"
    by = listed([plan.rig.socket_text(way.port) for way in ways])
    told = _proof_told(plan, box, proofs[box.uid]) if box.uid in proofs else None
    return BoxRow(box, _plays_told(box.following, course), f"clock by {by}", picture, slips, told)


def _proof_told(plan: Plan, box: Box, row: Proof) -> ProofTold | None:
    found, job = row.proved, row.job
    if found is None:
        return ProofTold("", row.made, stale=False, amiss=True, trouble=job.message) if job.message else None
    amiss = not (found.in_step and found.as_predicted)
    return ProofTold(verdict(plan, box, found), row.made, is_stale(row, plan, box), amiss, "")


def _plays_told(following: Following, course: Course | None) -> str:
    if not following.plays:
        return "what it plays by its clock is not said yet"
    if following.length_ticks is None:
        return f"{following.plays}, length not known"
    length = _length_told(following.length_ticks, course)
    pace = ""
    if following.pace != AS_THE_HOST:
        lasts = following.lasts_ticks
        here = f"{_length_told(lasts, course)} here, {lasts // TICKS_A_SIXTEENTH} sixteenths, {lasts} ticks"
        pace = f", counts {following.pace}: {here}"
    if following.plays == OSCILLATOR and course:
        quarters = following.lasts_ticks / CLOCKS_A_QUARTER
        paces = sorted({course.tempo.bpm_at(tick) for tick, _ in course.tempo.tempos})
        ms = _range([period_ms(quarters, bpm) for bpm in reversed(paces)], ".1f")
        hertz = _range([rate_hz(quarters, bpm) for bpm in paces], ".3g")
        name = division_of(following.length_ticks) or length
        return f"{following.plays} of {name}: {ms} ms, {hertz} Hz{pace}"
    return f"{following.plays} of {length}{pace}"


def _range(values: list[float], form: str) -> str:
    """The lowest and highest of ascending values, or the one there is."""
    first, last = f"{values[0]:{form}}", f"{values[-1]:{form}}"
    return first if first == last else f"{first}–{last}"


def _length_told(ticks: int, course: Course | None) -> str:
    a_bar = bar_ticks(course)
    bars, rest = divmod(Fraction(ticks), a_bar)
    sixteenths = rest / TICKS_A_SIXTEENTH
    whole = counted(int(bars), "bar") if bars else ""
    part = f"{float(sixteenths):.4g}/16" if rest else ""
    return " and ".join(filter(None, (whole, part)))


def _sent_in_words(course: Course | None, sending: Sending) -> str:
    if sending.wrap == NOTHING or course is None:
        return ""
    bar = course.tempo.position(course.loop[0]).bar
    return "told: start" if sending.wrap == START_AGAIN else f"told: go to bar {bar}"


def _port_row(plan, course, port: Socket, shown: list[Box], heard, form: PortForm | None) -> PortRow:
    sending = port.sending or Sending()
    mine = [box for box in shown if any(way.port == port.uid for way in heard[box.uid])]
    try:
        sent = _bytes_at_the_wrap(course, sending)
        so_that, slips, cure = _so_that(course, sending, mine)
    except CannotSchedule as error:
        # The loop begins beyond the last song position.
        sent, so_that, slips, cure = (), str(error), True, NOTHING
    shift = max(-12.0, min(12.0, sending.shift_ms))
    return PortRow(
        port=port,
        name=plan.rig.socket_text(port.uid),
        boxes=listed([box.name for box in mine]) if mine else "no box that takes clock",
        form=form if form and form.prefix == port.uid else PortForm(port=port),
        must=tuple(text for box in mine for text in _must(box)) + _wobble(port, mine, heard),
        sent=sent,
        so_that=so_that,
        slips=slips,
        cure=cure,
        needle_x=round(62 + shift * 62 / 12, 1),
    )


def _wobble(port: Socket, boxes: list[Box], heard) -> tuple[str, ...]:
    """What the clock of a port may wait for on its way, at most."""
    jitter = [way.jitter_ms for box in boxes for way in heard[box.uid] if way.port == port.uid]
    most = max(jitter, default=0.0)
    return (f"clock jitter by the wire: up to {most:.2f} ms",) if most else ()


def _must(box: Box) -> list[str]:
    following = box.following
    lines = [f"{box.name}: clock external" + (f", from {following.by}" if following.by else "")]
    ignored = [name for name in OBEYS if name not in following.obeys]
    if ignored:
        lines.append(f"ignores {listed(ignored)}")
    return lines


def _bytes_at_the_wrap(course: Course | None, sending: Sending) -> tuple[str, ...]:
    if course is None or sending.wrap == NOTHING:
        return ()
    if sending.wrap == START_AGAIN:
        return ("FA",)
    place = song_position(position_of(course.tempo, course.loop[0]))
    return ("FC", place.hex(" ").upper(), "FB")


def _so_that(course: Course | None, sending: Sending, boxes: list[Box]) -> tuple[str, bool, str]:
    """(a sentence, whether a box parts, what to send instead)."""
    known = [box for box in boxes if box.following.lasts_ticks]
    if course is None or course.times == 1:
        return "", False, ""
    if not known:
        return "Say how long their patterns are to see whether they stay in step." if boxes else "", False, ""
    told, fits = [], None
    for box in known:
        walked = walk(course, sending, box.following)
        fitting = set(cures(course, sending, box.following))
        fits = fitting if fits is None else fits & fitting
        off = next((ahead for ahead in walked if ahead), None)
        if off is not None:
            told.append(f"{box.name} is {misstep_told(off, bar_ticks(course), box.following.lasts_ticks)}.")
    if not told:
        return f"{costs(sending.wrap, [box.following for box in known])} In step.", False, ""
    cure = next((wrap for wrap in (NOTHING, START_AGAIN, POSITION) if wrap in fits and wrap != sending.wrap), "")
    return " ".join(told), True, cure


def _is_free(box: Box, heard) -> bool:
    return (
        box.uid not in heard and (box.setup.takes_clock or bool(box.following.plays)) and box.setup.clock != "external"
    )


def _free(plan: Plan, box: Box) -> str:
    bpm = plan.song.tempo.bpm_at(0) if plan.song else 120.0
    crystal, typed = wander(bpm), wander(bpm, 0.1)
    return (
        f"{box.name} follows nobody: set to {bpm:.4g} BPM by hand it parts by up to {crystal.ms_a_minute:.0f} ms a "
        f"minute (two crystals, {crystal.ppm:.0f} ppm), a sixteenth after {time_told(crystal.sixteenth_s)}; "
        f"with 0.1 BPM of a typing error after {time_told(typed.sixteenth_s)}."
    )


def cured(sending: Sending, wrap: str) -> Sending:
    """The same with something else sent at the wrap."""
    return replace(sending, wrap=wrap)
