"""What comes in of a pass while it runs: frames to disk, peaks, gaps, inputs that were not asked; and a pass that waits
for a leader and goes by its clock.
"""

import time
from collections import deque
from contextlib import closing, suppress
from io import RawIOBase

import numpy as np

from hypotaxis.core.errors import StudioTrouble
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.session.listening import InputMeter
from hypotaxis.core.session.passes import PassSetup
from hypotaxis.core.session.schedule import LEAD_IN_S, MAX_SECONDS, Schedule
from hypotaxis.core.session.watching import Watcher
from hypotaxis.core.studio import Block, RunSetup, Studio
from hypotaxis.core.sync.led import Led, LedNow
from hypotaxis.records import audio
from hypotaxis.records.jobs import Reporter
from hypotaxis.records.models import Job, Pass

NOBODY_S = 120.0
"""Faster than real time nobody can press a key: so long the stand-in is given to begin."""
KEPT_EVERY_S = 2.0
"""How often the leader's clock so far is stored: what a kill may cost of it."""


class Coming:
    """Takes down a pass block by block. since: the run's frame that is its first."""

    def __init__(self, run: Pass, setup: PassSetup, stream: RawIOBase) -> None:
        self.run, self.setup, self._stream = run, setup, stream
        self._meters = [InputMeter(name) for name in setup.names]
        self._watchers = [Watcher(setup.rate) for _ in setup.watched]
        self.since = 0

    def take(self, block: Block) -> None:
        """Write what came, and look at it."""
        if block.lost:
            self.run.lost += [[gap.start - self.since, gap.frames] for gap in block.lost]
            self.run.save(update_fields=["lost"])
        recorded = len(self.setup.inputs)
        with audio.told_when_full():
            audio.write_all(self._stream, np.ascontiguousarray(block.samples[:, :recorded], dtype="<f4").tobytes())
        self.listen(block)
        for column, watcher in enumerate(self._watchers, start=recorded):
            watcher.feed(block.samples[:, column])

    def listen(self, block: Block) -> None:
        """Only the meters."""
        for column, meter in enumerate(self._meters):
            meter.feed(block.samples[:, column])

    def tell(self) -> None:
        """Store the meters as they stand."""
        Pass.objects.filter(uid=self.run.uid).update(meters=[to_json(meter.shown) for meter in self._meters])

    def close(self, moments: np.ndarray) -> None:
        """Store them for the last time, with the inputs that moved with these moments though nobody asked them to."""
        heard = zip(self.setup.watched, self._watchers, strict=True)
        moved = [watched.input for watched, watcher in heard if watcher.moved_with(moments)]
        Pass.objects.filter(uid=self.run.uid).update(moved=moved)
        self.tell()


def record_led(coming: Coming, schedule: Schedule, studio: Studio, inputs: tuple[str, ...], reporter: Reporter) -> None:
    """Wait for the leader's start key, record by its clock, and keep the tempo that was really played. However it ends,
    what came and its tempo are kept."""
    run, setup = coming.run, coming.setup
    led = Led(schedule, run.session.tempo_map, setup.led_by, rate=setup.rate)
    through = setup.beside.through if setup.beside else ()
    asked = RunSetup(inputs=inputs, fast=run.fast, passed=through)
    before: deque[Block] = deque()
    kept_at = time.monotonic()
    try:
        with closing(studio.run(led, asked)) as blocks:
            for block in blocks:
                led.hear(block)
                here = block.start + len(block.samples)
                if not led.begun:
                    before.append(block)
                    while before and before[0].start + len(before[0].samples) < here - 2 * LEAD_IN_S * setup.rate:
                        before.popleft()
                    coming.listen(block)
                    if run.fast and here > NOBODY_S * setup.rate:
                        raise StudioTrouble(f"{setup.led_by.name} was not started. Record in real time, and start it.")
                else:
                    if before:
                        _begin(coming, led, before)
                        reporter.began, reporter.whole_s = time.monotonic(), schedule.seconds
                    coming.take(block)
                    if here - coming.since > MAX_SECONDS * setup.rate:
                        led.told = "It had lasted four hours."
                        break
                    if time.monotonic() - kept_at > KEPT_EVERY_S:
                        _keep(run, led, coming.since, ended=False)
                        kept_at = time.monotonic()
                if reporter.due():
                    coming.tell()
                    now = led.now()
                    Job.objects.filter(uid=reporter.job.uid).update(result=to_json(now))
                    reporter.report(now.share)
        if not led.begun:
            raise StudioTrouble("The studio ended the run before the start key came. Nothing was recorded.")
    finally:
        if led.begun:
            _keep(run, led, coming.since, ended=True)


def _begin(coming: Coming, led: Led, before: deque[Block]) -> None:
    """Keep what came just before the first clock."""
    first = max(before[0].start, round(led.begun_ns * led.rate / 1e9 - LEAD_IN_S * led.rate))
    coming.since = first
    for block in before:
        cut = max(0, first - block.start)
        if cut < len(block.samples):
            coming.take(Block(block.start + cut, block.samples[cut:], lost=block.lost if not cut else ()))
    before.clear()


def _keep(run: Pass, led: Led, since: int, *, ended: bool) -> None:
    run.tempo, run.led = (to_json(one) for one in led.played(since, ended=ended))
    for name in ("led_run", "tempo_map"):
        with suppress(AttributeError):
            delattr(run, name)
    run.save(update_fields=["led", "tempo"])


def led_now(job: Job) -> LedNow:
    """Where a pass stands that a box leads."""
    return from_json(LedNow, job.result) if job.result else LedNow()
