"""What the system offers of audio and MIDI, through PortAudio's and RtMidi's JACK back ends, against the truth box.

Audio is exact; MIDI leaves and comes by the computer's clock, and RtMidi's JACK back end hands it over in whole
periods, so notes lie within a period of their median.
"""

import io
import json
import sys
from collections.abc import Callable
from types import SimpleNamespace

import numpy as np
from django.core.management import call_command
from django.test import SimpleTestCase

from hypotaxis.core.errors import PortMissing, ServerGone, StudioTrouble
from hypotaxis.core.studio import (
    MIDI,
    PORTABLE,
    WITH_A_NOTE,
    Block,
    EchoRule,
    OwnEnd,
    RunSetup,
    Wanted,
    Written,
    sound_of,
)
from hypotaxis.devices.portable_engine import PortableEngine
from hypotaxis.devices.studio import DeviceStudio
from hypotaxis.devices.timeline import Timeline
from tests.devices.desk import PERIOD, RATE, a_desk
from tests.devices.test_jack import KEYS, NOTES, PLAY_A_KEY, at, close_while_it_sounds, hit, middles, recorded
from tests.devices.truth import LOOP

CLICKS, BACK, INTO = "truth: 1", "truth: 2", "truth: 1"
TRIES, AGAIN, STALLS = 60, 12, 4
HELD_UP = ("did not come while it was sounded", PortableEngine.gone_words)
SYSTEM = Wanted(kind=PORTABLE, input_device="truth", output_device="truth", own=(OwnEnd("Tablet", MIDI, "in"),))


class PortableTest(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.server, cls.truth, cls.process = cls.enterClassContext(a_desk(wanted=SYSTEM))
        cls.studio = DeviceStudio(cls.process)

    def shell(self, command: str, *options: str) -> tuple[dict, int]:
        out, code = io.StringIO(), 0
        try:
            asked = ("--studio", "portable", "--server", self.server.name, "--json", *options)
            call_command(command, *asked, stdout=out, stderr=io.StringIO())
        except SystemExit as ended:
            code = ended.code
        return json.loads(out.getvalue()), code

    def test_it_says_what_there_is_and_that_its_clocks_are_two(self):
        there = self.studio.reported
        self.assertEqual((there.rate, there.buffer, there.realtime, there.one_clock), (RATE, PERIOD, None, False))
        self.assertEqual([end.name for end in there.inputs], [CLICKS, BACK])
        self.assertEqual((there.input_devices, there.devices), (("system", "truth"), ("truth",)))
        ports = {(port.system_name, port.direction, port.own) for port in there.ports}
        self.assertEqual(ports, {(NOTES, "out", False), (KEYS, "in", False), ("hypotaxis:Tablet", "in", True)})
        found, code = self.shell("devices")
        self.assertEqual(code, 0)
        self.assertIn("system: 8", [end["name"] for end in found["inputs"]], "in the shell: every device")

    def unstalled(self, act: Callable):
        """What it gives. A machine that stands still for seconds takes the interface away, which the application says;
        it is told here, too, and the act done again on the process that is started then."""
        for _ in range(STALLS):
            try:
                return act()
            except ServerGone as error:
                sys.stderr.write(f"{self._testMethodName}: {error}\n")
        return act()

    def undisturbed(self, written: Written, asked: RunSetup) -> np.ndarray:
        """The sound of a run that tells of nothing: no frame lost, no message late, no period late. A busy machine
        holds them back, and such a run says so: no more is measured by it than the application would, which refuses
        silence, too. Where none is free of late periods, the one with the fewest."""
        found: dict[int, np.ndarray] = {}
        held_up = []
        for _ in range(TRIES):
            # What has left once does not leave again: each run has its own.
            blocks = self.unstalled(lambda: list(self.studio.run(written.beside(()), asked)))
            sound, told = recorded(blocks)[:, 0], self.studio.told
            self.assertEqual(len(sound), asked.frames)
            if not sound.any() or told.lost or told.late:
                held_up.append((bool(sound.any()), told))
            else:
                found.setdefault(told.xruns, sound)
            if 0 in found:
                break
        if not found:
            raise AssertionError(f"Every run has lost frames, sent late or is silent: {held_up}")
        return found[min(found)]

    def test_loops_are_exact_from_run_to_run(self):
        tone = np.zeros(4000)
        tone[1000] = 0.5
        written, asked = Written((), {INTO: sound_of(tone)}), RunSetup(inputs=(BACK,), outputs=(INTO,), frames=8_000)
        ways = {int(np.argmax(self.undisturbed(written, asked))) - 1000 for _ in range(3)}
        (way,) = ways
        self.assertEqual((way - LOOP) % PERIOD, 0, "the box, and whole periods of the back end")

    def test_notes_lie_within_a_period_of_their_median(self):
        frames = [4000 + 1237 * number for number in range(40)]
        asked = RunSetup(inputs=(CLICKS,), frames=60_000)
        # A machine that is busy may hold notes back longer and tell nothing of it: most are in their period, and where
        # they are not, they are in another run. Were they never, this would fail each time.
        for _ in range(AGAIN):
            sound = self.undisturbed(Written([hit(frame) for frame in frames]), asked)
            late = np.array(middles(sound)) - frames
            near = np.abs(late - np.median(late)) <= PERIOD
            if near.sum() >= 36:
                break
        self.assertGreaterEqual(int(near.sum()), 36)
        self.assertLess(float(np.std(late[near])) / RATE * 1000, 3.0)

    def test_keys_come_in_are_echoed_and_begin_a_run_that_waits(self):
        rule = EchoRule(KEYS, tuple(range(1, 17)), NOTES, 3)
        asked = RunSetup(inputs=(CLICKS,), frames=9_600, echo=(rule,))
        blocks = self.unstalled(lambda: list(self.studio.run(Written([at(2000, PLAY_A_KEY)]), asked)))
        (came,) = [message for block in blocks for message in block.received]
        (sent,) = [message for block in blocks for message in block.sent]
        self.assertEqual((came.port, came.data.hex(), sent.data.hex()), (KEYS, "903c64", "923c64"))
        self.assertGreater(came.time_ns * RATE / 1e9, 2000)
        blocks = self.unstalled(self.pressed)
        self.assertEqual(next(one.time_ns for block in blocks for one in block.received), 0)
        self.assertEqual(len(recorded(blocks)), 4_800)

    def pressed(self) -> list[Block]:
        """A run that waits for a note, which is played as soon as it waits."""
        blocks = []
        for block in self.studio.run(Written(), RunSetup(inputs=(CLICKS,), frames=4_800, begins=WITH_A_NOTE)):
            blocks.append(block)
            if len(blocks) == 3:
                self.truth.press()
        return blocks

    def test_a_run_that_is_closed_is_silenced(self):
        self.unstalled(lambda: close_while_it_sounds(self.studio, self.truth, CLICKS))

    def test_a_process_that_has_ended_between_two_runs_is_started_again_and_opens_ports_while_audio_is_open(self):
        self.process.close()
        short = RunSetup(inputs=(CLICKS,), frames=4_800)
        for written in (Written(), Written([hit(2000)])):
            blocks = self.unstalled(lambda written=written: list(self.studio.run(written.beside(()), short)))
            self.assertEqual(len(recorded(blocks)), 4_800)

    def test_what_it_cannot_do_is_said(self):
        with self.assertRaisesRegex(StudioTrouble, "real time only"):
            self.studio.run(Written(), RunSetup(inputs=(CLICKS,), frames=100, fast=True))
        with self.assertRaisesRegex(PortMissing, "audio input “nowhere”"):
            list(self.studio.run(Written(), RunSetup(inputs=("nowhere",), frames=100)))
        with self.assertRaisesRegex(PortMissing, "MIDI output “nowhere”"):
            list(self.studio.run(Written([at(0, b"\x90\x3c\x64", "nowhere")]), RunSetup(inputs=(CLICKS,), frames=100)))
        refused, code = self.shell("sound", "--port", NOTES, "--input", CLICKS, "--freewheel")
        self.assertEqual(code, 2)
        self.assertIn("real time only", refused["error"])

    def test_a_trip_is_sounded_from_the_shell(self):
        for _ in range(TRIES):
            looped, code = self.shell("sound", "--loop", INTO, "--input", BACK, "--hits", "8")
            # On a busy machine it says that frames did not come, or nothing at all, and asks to be sounded again.
            if not any(words in looped.get("error", "") for words in HELD_UP):
                break
        self.assertEqual((code, looped.get("matched")), (0, 8), looped)
        self.assertAlmostEqual((looped["offset_samples"] - LOOP) % PERIOD % PERIOD, 0.0, delta=0.05)


class MissingTest(SimpleTestCase):
    def counted(self, periods: list[tuple[float, bool]]) -> tuple[list[int], int]:
        """Frames lost before each period but one, and all; periods: (arrival in periods, whether overflow is told)."""
        engine, line, found = SimpleNamespace(_due_s=0.0, _jump=0, rate=RATE, _count=0), Timeline(0), []
        for arrived, overflow in periods:
            at = 1 + arrived * PERIOD / RATE
            jump = PortableEngine._missing(engine, at, PERIOD, overflow=overflow)
            found.append(line.period(engine._count + jump, PERIOD))
            if jump and jump == engine._jump:
                engine._count, engine._due_s, jump = engine._count + jump, 0.0, 0
            engine._jump = jump
            engine._count += PERIOD
        return found, line.count

    def test_whole_periods_that_stay_away_are_lost_and_a_late_one_is_not(self):
        self.assertEqual(self.counted([(0, False), (1, False), (4, True), (5, False)]), ([0, 0, 0, 512], 6 * PERIOD))
        self.assertEqual(self.counted([(0, False), (1, False), (4.2, True), (3, False)]), ([0] * 4, 4 * PERIOD))


class GoneTest(SimpleTestCase):
    def test_a_server_that_goes_ends_the_run_by_name_and_keeps_what_came(self):
        with a_desk(wanted=SYSTEM) as (server, _, process):
            studio, kept = DeviceStudio(process), []
            with self.assertRaisesRegex(ServerGone, "stopped delivering"):
                for block in studio.run(Written(), RunSetup(inputs=(CLICKS,), frames=60 * RATE)):
                    kept.append(block)
                    server.end() if block.start > 6000 else None
            self.assertGreater(len(recorded(kept)), 6000)
            with self.assertRaisesRegex(ServerGone, "No audio device is there"):
                studio.ports()
