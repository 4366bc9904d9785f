"""Real ports and inputs by JACK, against a box whose truth is known: what is sent and heard, exact to the frame.

Distances: our client plays, the box answers in the same period, and we hear it in the next: one period is added to its
own (measured on synchronous dummy servers; JACK API, feedback connections).
"""

import io
import json
import os
import signal
import subprocess
import threading
from pathlib import Path

import numpy as np
from django.core.management import call_command
from django.test import SimpleTestCase

from hypotaxis.core.errors import NoAnswer, PortMissing, ServerGone, StudioTrouble
from hypotaxis.core.midi.shaping import Shaping
from hypotaxis.core.session.passes import LedBy
from hypotaxis.core.session.schedule import PlayedPart, plan_run
from hypotaxis.core.session.score import NOTE, no_controls
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import (
    AUDIO,
    JACK,
    MIDI,
    WITH_A_NOTE,
    EchoRule,
    Lost,
    Message,
    OwnEnd,
    Passed,
    RunSetup,
    Wanted,
    Written,
    sound_of,
)
from hypotaxis.core.sync.led import Led
from hypotaxis.core.timing.sounded import clear_score, loop_run
from hypotaxis.core.timing.wish import Wish
from hypotaxis.devices.panic import call
from hypotaxis.devices.studio import DeviceStudio
from hypotaxis.devices.timeline import WRAP, Timeline
from tests.devices.desk import PERIOD, RATE, Truth, a_desk
from tests.devices.truth import LOOP, REACTION

NOTES, KEYS, CLICKS, INTO, BACK = (f"truth:{name}" for name in ("notes", "keys", "clicks", "into", "back"))
TABLET, VOICE, STRIP = "hypotaxis:Tablet", "hypotaxis:Voice", "hypotaxis:Strip"
OWN = (OwnEnd("Tablet", MIDI, "in"), OwnEnd("Voice", MIDI, "out"), OwnEnd("Strip", AUDIO, "in"))
PLAY_A_KEY = bytes.fromhex("f07d01f7")


def at(frame: int, data: bytes, port: str = NOTES) -> Message:
    return Message(round(frame * 1e9 / RATE), port, data)


def hit(frame: int) -> Message:
    return at(frame, bytes([0x90, 60, 100]))


class Beside:
    """A source with more messages beside its own."""

    def __init__(self, source, messages) -> None:
        self.source, self.more = source, Written(messages)
        self.ports = source.ports | self.more.ports

    def messages(self, until_ns: int):
        both = [*self.source.messages(until_ns), *self.more.messages(until_ns)]
        return sorted(both, key=lambda message: message.time_ns)

    def sound(self, output: str, start: int, frames: int):
        return self.source.sound(output, start, frames)

    def ended(self) -> bool:
        return self.source.ended()


def quarters(bars: int) -> np.ndarray:
    return np.array([(480 * beat, 200, 60, 100) for beat in range(4 * bars)], dtype=NOTE)


def recorded(blocks) -> np.ndarray:
    return np.concatenate([block.samples for block in blocks])


def close_while_it_sounds(studio: DeviceStudio, truth: Truth, by: str) -> None:
    """Play a note on channel 6, close the run once the box has it, and wait until all is off."""
    run = studio.run(Written([at(100, bytes([0x95, 60, 100]))]), RunSetup(inputs=(by,), frames=60 * RATE))
    truth.heard.clear()
    for _ in run:
        if "953c64" in truth.heard:
            break
    run.close()
    truth.wait_for("b57800")


def middles(sound: np.ndarray) -> list[int]:
    """The frames at which clicks are loudest."""
    return [int(frame) for frame in np.flatnonzero(sound > 0.4999)]


class JackTest(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.server, cls.truth, cls.process = cls.enterClassContext(a_desk(wanted=Wanted(kind=JACK, own=OWN)))
        cls.studio = DeviceStudio(cls.process)

    def shell(self, command: str, *options: str) -> tuple[dict, int]:
        out, code = io.StringIO(), 0
        try:
            call_command(
                command,
                "--studio",
                "jack",
                "--server",
                self.server.name,
                "--json",
                *options,
                stdout=out,
                stderr=io.StringIO(),
            )
        except SystemExit as ended:
            code = ended.code
        return json.loads(out.getvalue()), code

    def test_a_pass_goes_by_a_leaders_clock_that_comes_by_a_port(self):
        # The box sends on what it hears: the leader's clock, 1,000 frames apart, comes back by its keys.
        part = PlayedPart(NOTES, 1, quarters(1), no_controls())
        schedule = plan_run([part], TempoMap(480, ((0, 600_000),)), first_bar=1, last_bar=1, sample_rate=RATE)
        led = Led(schedule, TempoMap(480, ((0, 600_000),)), LedBy("the box", KEYS), rate=RATE)
        first = 40 * 1_000
        clocks = [at(first - 500 + 1_000 * number, b"\xf8") for number in range(-30, 100)]
        source = Beside(led, [*clocks, at(first - 600, b"\xfa")])
        sound = []
        for block in self.studio.run(source, RunSetup(inputs=(CLICKS,))):
            led.hear(block)
            sound.append(block.samples)
        self.assertTrue(led.whole, led.told)
        self.assertAlmostEqual(led.played(0)[0].bpm_at(480), 120.0, delta=0.01)
        # Of the bar's four quarters those after the first are foreseen: each leaves on its clock, as it was heard, and
        # clicks a period and the box's reaction behind that.
        heard = middles(np.concatenate(sound)[:, 0])
        due = [round(at_ns * RATE / 1e9) for at_ns in led.times[24:96:24]]
        for clock in due:
            away = min(abs(one - clock - PERIOD - REACTION) for one in heard)
            self.assertLess(away, RATE // 1_000, (heard, due))

    def test_what_is_there_is_reported_with_its_direction(self):
        found, code = self.shell("devices")
        self.assertEqual(code, 0)
        self.assertEqual(
            (found["studio"], found["rate"], found["buffer"], found["realtime"]), ("jack", RATE, 256, False)
        )
        ports = {(port["name"], port["direction"]) for port in found["ports"]}
        self.assertEqual(ports, {(NOTES, "out"), (KEYS, "in")}, "our own are not told by another process")
        self.assertIn("system:capture_8", [end["name"] for end in found["inputs"]])
        self.assertIn(INTO, [end["key"] for end in found["outputs"]])
        # The dummy driver captures by a period.
        ends = {end.name: end.latency for end in (*self.studio.reported.inputs, *self.studio.reported.outputs)}
        self.assertEqual(ends["system:capture_1"], PERIOD)

    def test_notes_and_clicks_are_exact_live_and_freewheeling(self):
        frames = [4000 + 1237 * number for number in range(12)]
        for fast in (False, True):
            with self.subTest(fast=fast):
                asked = RunSetup(inputs=(CLICKS,), frames=24_000, fast=fast)
                blocks = list(self.studio.run(Written([hit(frame) for frame in frames]), asked))
                sound = recorded(blocks)
                self.assertEqual(sound.shape, (24_000, 1))
                self.assertEqual([block.lost for block in blocks if block.lost], [])
                self.assertEqual(
                    [b - a for a, b in zip(frames, middles(sound[:, 0]), strict=True)], [REACTION + PERIOD] * 12
                )

    def test_a_loop_and_an_input_that_is_passed_on_are_exact(self):
        tone = np.zeros(4000)
        tone[1000] = 0.5
        asked = RunSetup(inputs=(BACK,), outputs=(INTO,), frames=12_000, passed=(Passed(BACK, INTO, -6.0),))
        heard = recorded(self.studio.run(Written((), {INTO: sound_of(tone)}), asked))[:, 0]
        way = LOOP + PERIOD
        self.assertEqual(int(np.argmax(heard)), 1000 + way)
        self.assertAlmostEqual(float(heard[1000 + 2 * way]), 0.5 * 10 ** (-6 / 20), delta=1e-4)

    def test_keys_come_in_with_their_time_and_the_echo_leaves_within_the_period(self):
        rule = EchoRule(KEYS, tuple(range(1, 17)), NOTES, 3, Shaping(transpose=12))
        asked = RunSetup(inputs=(CLICKS,), frames=9_600, echo=(rule,))
        blocks = list(self.studio.run(Written([at(2000, PLAY_A_KEY)]), asked))
        (came,) = [message for block in blocks for message in block.received]
        (sent,) = [message for block in blocks for message in block.sent]
        self.assertEqual((came.port, came.data.hex(), sent.data.hex()), (KEYS, "903c64", "924864"))
        pressed = round(came.time_ns * RATE / 1e9)
        self.assertEqual(pressed, 2000 + PERIOD)
        # Echoed in the period in which the key came, at its frame.
        self.assertEqual(middles(recorded(blocks)[:, 0]), [pressed + PERIOD + REACTION])

    def test_ports_of_our_own_are_connected_to_by_other_programs(self):
        own = {(port.system_name, port.direction) for port in self.studio.ports() if port.own}
        self.assertEqual(own, {(TABLET, "in"), (VOICE, "out")})
        self.assertEqual([end.name for end in self.studio.reported.inputs if end.own], [STRIP])
        for ends in ((KEYS, TABLET), (VOICE, NOTES), (CLICKS, STRIP)):
            subprocess.run(["jack_connect", "-s", self.server.name, *ends], check=True, capture_output=True)
        blocks = list(
            self.studio.run(
                Written([at(2000, bytes([0x90, 60, 100]), VOICE), at(4000, PLAY_A_KEY)]),
                RunSetup(inputs=(STRIP,), frames=9_600),
            )
        )
        self.assertEqual(middles(recorded(blocks)[:, 0]), [2000 + PERIOD + REACTION])
        came = sorted(message.port for block in blocks for message in block.received)
        self.assertEqual(came, [TABLET, KEYS])

    def test_a_long_exclusive_message_goes_in_pieces_and_nothing_passes_it(self):
        dump = b"\xf0\x7d" + bytes(number % 128 for number in range(150_000)) + b"\xf7"
        self.truth.heard.clear()
        list(self.studio.run(Written([at(100, dump), hit(200)]), RunSetup(inputs=(CLICKS,), frames=9_600)))
        self.truth.wait_for("903c64")
        heard = [bytes.fromhex(data) for data in self.truth.heard if not data.startswith("b")]
        self.assertGreater(len(heard), 2)
        self.assertEqual(b"".join(heard), dump + bytes([0x90, 60, 100]))

    def test_an_open_run_ends_when_all_that_its_source_had_has_left(self):
        blocks = list(self.studio.run(Written([hit(1000), hit(9000)]), RunSetup(inputs=(CLICKS,))))
        self.assertEqual(middles(recorded(blocks)[:, 0]), [1000 + PERIOD + REACTION, 9000 + PERIOD + REACTION])

    def test_a_run_waits_for_the_first_note_and_counts_from_there(self):
        asked = RunSetup(inputs=(CLICKS,), frames=4_800, begins=WITH_A_NOTE)
        blocks = []
        for block in self.studio.run(Written([hit(1000)]), asked):
            blocks.append(block)
            if len(blocks) == 3:
                self.truth.press()
        self.assertEqual([len(block.samples) for block in blocks[:3]], [0, 0, 0])
        self.assertEqual(next(one.time_ns for block in blocks for one in block.received), 0)
        self.assertEqual(middles(recorded(blocks)[:, 0]), [1000 + PERIOD + REACTION])

    def test_a_run_that_is_closed_is_silenced_on_the_channels_it_used(self):
        close_while_it_sounds(self.studio, self.truth, CLICKS)
        self.assertEqual([data for data in self.truth.heard if data.startswith("b5")], ["b54000", "b57b00", "b57800"])

    def test_silence_is_had_at_once_past_the_one_who_runs(self):
        run = self.studio.run(Written([at(100, bytes([0x95, 60, 100]))]), RunSetup(inputs=(CLICKS,), frames=60 * RATE))
        self.truth.heard.clear()
        asked, last = False, 0
        for block in run:
            last = block.start
            if "953c64" in self.truth.heard and not asked:
                asked = call(Path(self.process.panic))
        self.assertTrue(asked)
        self.assertLess(last, 20 * RATE, "the run has ended")
        self.truth.wait_for("bf7800")
        ended = [data for data in self.truth.heard if data.endswith("7800")]
        # The channel that was used comes first. (What an earlier run ended by may still have been on its way.)
        self.assertLess(ended.index("b57800"), ended.index("b17800"))
        self.assertEqual({data[:2] for data in ended}, {f"b{channel:x}" for channel in range(16)})

    def test_a_trip_is_sounded_from_the_shell(self):
        found, code = self.shell("sound", "--port", NOTES, "--input", CLICKS, "--hits", "16", "--freewheel")
        self.assertEqual((code, found["matched"], found["track"]), (0, 16, None))
        self.assertAlmostEqual(found["offset_samples"], REACTION + PERIOD, delta=0.05)
        looped, _ = self.shell("sound", "--loop", INTO, "--input", BACK, "--hits", "16", "--freewheel")
        self.assertAlmostEqual(looped["offset_samples"], LOOP + PERIOD, delta=0.05)
        nothing, code = self.shell("sound", "--port", NOTES, "--input", BACK, "--hits", "8", "--freewheel")
        self.assertEqual(code, 2)
        self.assertIn("Nothing came back", nothing["error"])
        wrong, code = self.shell("sound", "--port", KEYS, "--input", CLICKS)
        self.assertEqual(code, 2)
        self.assertIn(f"There is: {NOTES}", wrong["error"])

    def test_what_is_not_there_and_what_cannot_hurry_is_named(self):
        with self.assertRaisesRegex(PortMissing, "audio input “nowhere”"):
            list(self.studio.run(Written(), RunSetup(inputs=("nowhere",), frames=100)))
        with self.assertRaisesRegex(PortMissing, "MIDI output “nowhere”"):
            list(self.studio.run(Written([at(0, b"\x90\x3c\x64", "nowhere")]), RunSetup(inputs=(CLICKS,), frames=100)))
        with self.assertRaisesRegex(StudioTrouble, "real time only"):
            self.studio.run(Written(), RunSetup(inputs=("system:capture_1",), frames=100, fast=True))
        self.assertEqual(len(recorded(self.studio.run(Written(), RunSetup(inputs=(CLICKS,), frames=500)))), 500)


class TroubleTest(SimpleTestCase):
    def test_lost_frames_are_counted_and_silent(self):
        with a_desk(sync=False) as (_, _, process):
            studio = DeviceStudio(process)
            notes = [hit(4800 + 9600 * number) for number in range(10)]
            blocks, stopped = [], False
            for block in studio.run(Written(notes), RunSetup(inputs=(CLICKS,), frames=110_000)):
                blocks.append(block)
                if block.start > 30_000 and not stopped:
                    stopped = True
                    os.kill(process.pid, signal.SIGSTOP)
                    threading.Timer(0.2, os.kill, (process.pid, signal.SIGCONT)).start()
            sound, gaps = recorded(blocks)[:, 0], [gap for block in blocks for gap in block.lost]
            self.assertEqual(len(sound), 110_000)
            self.assertGreater(max(gap.frames for gap in gaps), 4 * PERIOD)
            for gap in gaps:
                self.assertEqual(np.abs(sound[gap.start : gap.start + gap.frames]).max(initial=0.0), 0.0)

    def test_a_box_that_is_unplugged_and_a_server_that_goes_end_nothing_without_a_word(self):
        with a_desk() as (server, truth, process):
            studio, came = DeviceStudio(process), []
            for block in studio.run(Written([hit(1000)]), RunSetup(inputs=(CLICKS,), frames=24_000)):
                came.append(block)
                truth.end() if block.start > 6000 and truth.process.poll() is None else None
            sound = recorded(came)[:, 0]
            self.assertEqual((len(sound), middles(sound)), (24_000, [1000 + PERIOD + REACTION]))
            with self.assertRaisesRegex(PortMissing, "MIDI output “truth:notes”"):
                list(studio.run(Written([hit(0)]), RunSetup(inputs=("system:capture_1",), frames=500)))
            again = Truth(server)
            sound = recorded(studio.run(Written([hit(1000)]), RunSetup(inputs=(CLICKS,), frames=4_800)))[:, 0]
            self.assertEqual(middles(sound), [1000 + PERIOD + REACTION], "plugged in again it plays")
            again.end()
            kept = []
            with self.assertRaisesRegex(ServerGone, "JACK server has gone"):
                for block in studio.run(Written(), RunSetup(inputs=("system:capture_1",), frames=20 * RATE)):
                    kept.append(block)
                    server.end() if block.start > 6000 else None
            self.assertGreater(len(recorded(kept)), 6000)
            with self.assertRaisesRegex(ServerGone, "No JACK server"):
                studio.ports()


class GapTest(SimpleTestCase):
    def test_a_sounding_is_measured_by_the_notes_that_are_clear_of_a_gap(self):
        run = loop_run(Wish(hits=16), outputs=("out",), rate=RATE)
        self.assertIs(clear_score(run, [], RATE), run.score)
        first = run.score.tempo.samples_at(run.score.parts[0].notes["tick"][:1], RATE)[0]
        left = clear_score(run, [Lost(int(first), 512)], RATE).parts[0].notes
        self.assertTrue(8 <= len(left) < 16)
        self.assertNotIn(run.score.parts[0].notes["tick"][0], left["tick"])
        with self.assertRaisesRegex(NoAnswer, "300 frames did not come .* larger buffer"):
            clear_score(run, [Lost(frame * RATE // 10, 1) for frame in range(300)], RATE)


class TimelineTest(SimpleTestCase):
    def test_a_jump_that_stays_is_a_loss_and_one_that_comes_back_is_none(self):
        line = Timeline(1000)
        counts = [line.period(1000 + at, 256) for at in (0, 256, 768, 1024, 1280)]
        self.assertEqual((counts, line.count), ([0, 0, 0, 256, 0], 1536))
        line = Timeline(1000)
        counts = [line.period(1000 + at, 256) for at in (0, 256, 768, 768, 1024)]
        self.assertEqual((counts, line.count), ([0] * 5, 1280))

    def test_the_count_of_the_server_may_wrap(self):
        line = Timeline(WRAP - 300)
        self.assertEqual([line.period((WRAP - 300 + at) % WRAP, 256) for at in (0, 256, 512)], [0, 0, 0])
