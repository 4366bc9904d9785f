"""Memories of boxes: asked for or waited for, kept with the session, sent back as fast as the box bears, and held
against what it says then."""

import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property

from django.utils import timezone

from hypotaxis.core.errors import BadDump, CannotSchedule
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.midi.dumps import (
    MOST_BYTES,
    Held,
    Pacing,
    check_maker,
    held_against,
    maker_of,
    messages_in,
    paced,
    request_of,
    seconds_of,
)
from hypotaxis.core.midi.messages import EXCLUSIVE
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.listening import players_into
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.rig.trips import heard_from, send_sockets
from hypotaxis.core.rig.values import Box
from hypotaxis.core.studio import Message, RunSetup, Studio, Written
from hypotaxis.core.units import counted
from hypotaxis.records import jobs
from hypotaxis.records.jobs import Reporter, ask, running, work
from hypotaxis.records.models import Dump, Job, Session
from hypotaxis.records.models.dumps import ASKED, FILE, PANEL
from hypotaxis.records.plan import load_plan
from hypotaxis.records.studio import studio_for

KIND = "memory"
RECEIVE, SEND = ACTS = ("receive", "send")
IDLE_S = 1.5
"""A dump has ended when nothing came for so long."""
ANSWER_S, PANEL_S = 3.0, 120.0
"""How long is waited for the first byte: of a box that was asked, and until somebody presses on its panel."""
TOLD_S = 0.4
KEPT = 8
"""Of a box in a session, the newest."""


@dataclass(frozen=True)
class Wish:
    """What is to be done. dump: uid of the one that is sent back."""

    act: str
    box: str
    dump: str = ""
    fast: bool = False


@dataclass(frozen=True)
class Done:
    """How far it is, and what came of it. told: "" while it goes on."""

    received: int = 0
    told: str = ""
    fine: bool = True


@dataclass(frozen=True, eq=False)
class Memory:
    """A box whose memory may be kept, as the page lists it."""

    box: Box
    dumps: Sequence[Dump]
    job: Job | None

    @property
    def asked(self) -> bool:
        """Whether it is asked for it; otherwise its owner sends it from its panel."""
        return bool(self.box.setup.dump_request)

    @property
    def waits(self) -> bool:
        """Whether what is done now needs somebody at its panel."""
        return bool(self.job) and self.job.request.get("act") == RECEIVE and not self.asked

    @property
    def running(self) -> bool:
        return bool(self.job and not self.job.finished)

    @cached_property
    def done(self) -> Done | None:
        """What the last thing that was done came to."""
        return from_json(Done, self.job.result) if self.job and self.job.result else None

    @property
    def seconds(self) -> float:
        """How long sending the newest back takes."""
        return seconds_of(self.dumps[0].messages, pacing_of(self.box)) if self.dumps else 0.0


def memories(session: Session, boxes: Sequence[Box]) -> list[Memory]:
    """Of these boxes."""
    kept: dict[str, list[Dump]] = {}
    for dump in session.dumps.all():
        kept.setdefault(dump.box_uid, []).append(dump)
    asked = jobs.newest_of(KIND, [about(session, box.uid) for box in boxes])
    return [Memory(box, kept.get(box.uid, []), asked.get(about(session, box.uid))) for box in boxes]


def about(session: Session, box: str) -> str:
    """By what the work on a box's memory for a session is found."""
    return f"{str(session.uid)[:18]}{box[:18]}"


def pacing_of(box: Box) -> Pacing:
    return Pacing(box.setup.dump_pause_ms, box.setup.dump_bytes_s)


def start(session: Session, plan: Plan, wish: Wish, *, token: str = "") -> Job:
    """Let the worker do it. Raises CannotSchedule, BadDump."""
    box = plan.rig.box(wish.box)
    if box is None:
        raise CannotSchedule("That box is not in the rig any more.")
    if wish.act == SEND:
        dump = session.dumps.filter(uid=wish.dump or None).first()
        if dump is None:
            raise CannotSchedule("That dump is gone. Look at the page anew.")
        _way_out(plan, box)
        check_maker(dump.messages, _maker_known(box), box.name)
    elif box.setup.dump_request:
        request_of(box.setup.dump_request)
        _way_out(plan, box)
    return ask(KIND, about=about(session, box.uid), request=to_json(wish) | {"session": str(session.uid)}, token=token)


def keep_file(session: Session, box: Box, data: bytes) -> str:
    """Keep a .syx file as a box's memory; what was done, in words. Raises BadDump."""
    messages = messages_in(data)
    check_maker(messages, _maker_known(box), box.name)
    _keep(session, box, messages, FILE)
    return f"The file is kept for {box.name}: {_told(messages)}."


def _maker_known(box: Box) -> bytes:
    """The maker's number of a box, as it answered or as its request names it; b"" where neither is known."""
    with suppress(ValueError):
        # Unless a file has brought something else there.
        if box.identity:
            return bytes.fromhex(box.identity.rpartition(" ")[0])
    return maker_of(messages_in(request_of(box.setup.dump_request))[0]) if box.setup.dump_request else b""


def _told(messages: Sequence[bytes]) -> str:
    return f"{sum(map(len, messages)):,} bytes in {counted(len(messages), 'message')}"


def _way_out(plan: Plan, box: Box) -> str:
    """System name of the port by which a box is reached. Raises CannotSchedule."""
    for _, socket in send_sockets(plan.rig):
        if socket.system_name and any(reached.box == box.uid for reached in heard_from(plan.rig, socket.uid)):
            return socket.system_name
    raise CannotSchedule(f"No port of the host reaches {box.name}: cable one to it on the Rig step.")


def _ways_back(plan: Plan, box: Box) -> set[str]:
    """System names of the ports by which what a box sends arrives; all there are where the sheet knows no way."""
    ends = ports_of(plan.rig, "in")
    mine = {
        end.socket.system_name
        for end in ends
        if any(sender.uid == box.uid for sender, _ in players_into(plan.rig, end.socket.uid))
    }
    return mine or {end.socket.system_name for end in ends}


@work(KIND)
def exchange(job_uid: str) -> None:
    """The task: receive a dump, or send one back and ask for it again."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        request = dict(reporter.job.request)
        session = Session.objects.select_related("rig").get(uid=request.pop("session"))
        wish, plan = from_json(Wish, request), load_plan(session.rig)
        box = plan.rig.box(wish.box)
        if box is None:
            raise CannotSchedule("That box is not in the rig any more.")
        with studio_for(plan) as studio:
            done = (_receive if wish.act == RECEIVE else _send)(_At(studio, plan, session, box, wish, reporter))
        Job.objects.filter(uid=job_uid).update(result=to_json(done))


@dataclass(frozen=True, eq=False)
class _At:
    """Where the work is done."""

    studio: Studio
    plan: Plan
    session: Session
    box: Box
    wish: Wish
    reporter: Reporter


def _receive(at: _At) -> Done:
    box, before = at.box, at.session.dumps.filter(box_uid=at.box.uid).first()
    messages = _listened(at, expected=len(bytes(before.data)) if before else 0)
    if not messages:
        why = "It did not answer. Is it on, and cabled back to the host?" if box.setup.dump_request else "Nothing came."
        raise CannotSchedule(f"{why} Nothing was kept.")
    check_maker(messages, _maker_known(box), box.name)
    _keep(at.session, box, messages, ASKED if box.setup.dump_request else PANEL)
    return Done(sum(map(len, messages)), f"Kept: {_told(messages)}.")


def _send(at: _At) -> Done:
    dump = at.session.dumps.get(uid=at.wish.dump)
    messages, port = dump.messages, _way_out(at.plan, at.box)
    pacing = pacing_of(at.box)
    sent = [Message(time_ns, port, data) for time_ns, data in paced(messages, pacing)]
    seconds = seconds_of(messages, pacing) + 0.2
    frames = round(seconds * at.studio.sample_rate)
    at.reporter.whole_s = seconds
    for block in at.studio.run(Written(sent), RunSetup(frames=frames, fast=at.wish.fast)):
        at.reporter.tell((block.start + len(block.samples)) / frames)
    if not at.box.setup.dump_request:
        return Done(0, f"Sent: {_told(messages)}. It cannot be asked: look at its display, or compare by ear.")
    held = held_against(messages, _listened(at, expected=len(bytes(dump.data))), pacing)
    if held.same:
        Dump.objects.filter(uid=dump.uid).update(verified=timezone.now())
    return Done(0, _sent_told(held), held.same)


def _sent_told(held: Held) -> str:
    return f"Sent. {held.told}" if held.same else held.told


class _Asking(Written):
    """A source that has asked and goes on until all has come."""

    over = False

    def ended(self) -> bool:
        return self.over


def _listened(at: _At, *, expected: int) -> tuple[bytes, ...]:
    """What a box sends, whole messages; () where nothing came. expected: bytes, 0 = not known. Raises BadDump."""
    request = at.box.setup.dump_request
    asking = [Message(0, _way_out(at.plan, at.box), one) for one in messages_in(request_of(request))] if request else []
    source, ports = _Asking(asking), _ways_back(at.plan, at.box)
    maker = _maker_known(at.box)
    came, last_s, told = bytearray(), 0.0, time.monotonic()
    for block in at.studio.run(source, RunSetup(fast=at.wish.fast)):
        now_s = (block.start + len(block.samples)) / at.studio.sample_rate
        for message in block.received:
            mine = not maker or maker_of(message.data) in (maker, b"") if len(message.data) > 2 else False
            if message.data[:1] == bytes([EXCLUSIVE]) and message.port in ports and mine:
                came += message.data
                last_s = now_s
        if len(came) > MOST_BYTES:
            raise BadDump(f"More than {MOST_BYTES:,} bytes came; that is no dump that can be kept. Nothing was kept.")
        waits = IDLE_S if came else (ANSWER_S if request else PANEL_S)
        source.over = now_s - last_s > waits
        at.reporter.tell(min(0.99, len(came) / expected) if expected else 0.0)
        if time.monotonic() - told > TOLD_S:
            told = time.monotonic()
            Job.objects.filter(uid=at.reporter.job.uid).update(result=to_json(Done(len(came))))
    return messages_in(bytes(came)) if came else ()


def _keep(session: Session, box: Box, messages: Sequence[bytes], source: str) -> Dump:
    """Keep a dump; the oldest of the box go."""
    same = session.dumps.filter(box_uid=box.uid, data=b"".join(messages))
    same.delete()
    made = Dump.objects.create(
        session=session, box_uid=box.uid, box_name=box.name, data=b"".join(messages), source=source
    )
    old = list(session.dumps.filter(box_uid=box.uid).values_list("uid", flat=True)[KEPT:])
    session.dumps.filter(uid__in=old).delete()
    return made
