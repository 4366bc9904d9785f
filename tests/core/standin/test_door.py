"""The door to the outside, on the stand-in: what is sent is pulled, runs may be open or wait, inputs be passed on."""

import itertools

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.errors import StudioTrouble
from hypotaxis.core.playing.keys import echo_rules
from hypotaxis.core.studio import AHEAD_S, WITH_A_NOTE, Message, Passed, RunSetup, Written, sound_of
from hypotaxis.standin.desk import Desk
from hypotaxis.standin.run import BLOCK
from hypotaxis.standin.units import FrontPanel
from tests.core.standin.test_desk import KICK, desk, system
from tests.rooms import box_named, instrument_named, plug, small_room

RATE = 48_000


class Played:
    """A source that a hand plays while it runs: what is struck leaves with the next stretch, and it ends when told."""

    def __init__(self, port: str) -> None:
        self.ports = frozenset([port])
        self.port, self.struck, self.over, self.asked_ns = port, [], False, [0]

    def messages(self, until_ns):
        since, self.asked_ns = self.asked_ns[-1], [*self.asked_ns, until_ns]
        due = [Message(since, self.port, bytes(data)) for data in self.struck]
        self.struck = []
        return due

    def sound(self, output, start, frames):
        return np.zeros(frames)

    def ended(self):
        return self.over


class PulledTest(SimpleTestCase):
    def test_an_open_run_plays_what_is_struck_meanwhile_and_ends_when_its_source_has(self):
        plan = small_room()
        source = Played(system(plan, "Quayside 18", "MIDI out"))
        asked = RunSetup(inputs=(system(plan, "Quayside 18", "line in 5"),), fast=True)
        heard = []
        for number, block in enumerate(desk().run(source, asked)):
            heard.append(np.abs(block.samples).max())
            source.struck = [KICK] if number == 30 else []
            source.over = number == 60
        self.assertEqual(len(heard), 61)
        self.assertLess(max(heard[:31]), 0.001)
        self.assertGreater(max(heard[31:35]), 0.05)

    def test_it_is_asked_for_each_stretch_once_and_little_ahead(self):
        plan = small_room()
        source = Played(system(plan, "Quayside 18", "MIDI out"))
        asked = RunSetup(inputs=(system(plan, "Quayside 18", "line in 5"),), frames=RATE, fast=True)
        for block in desk().run(source, asked):
            ahead_s = source.asked_ns[-1] / 1e9 - block.start / RATE
            self.assertTrue(0 < ahead_s < 2 * BLOCK / RATE < AHEAD_S)
        self.assertTrue(all(one < other for one, other in itertools.pairwise(source.asked_ns)))

    def test_what_a_rewritten_source_sends_sounds_as_if_it_had_been_known(self):
        plan = small_room()
        port, name = system(plan, "Quayside 18", "MIDI out"), system(plan, "Quayside 18", "line in 5")
        notes = [Message(at * 1_000_000, port, bytes(KICK)) for at in (100, 101, 102, 400)]
        asked = RunSetup(inputs=(name,), frames=RATE, fast=True)
        whole = np.concatenate([block.samples for block in desk().run(Written(notes), asked)])
        source = Written(notes[:1])
        blocks = []
        for block in desk().run(source, asked):
            if not blocks:
                source.written += notes[1:]
            blocks.append(block.samples)
        np.testing.assert_array_equal(np.concatenate(blocks), whole)


class PassedTest(SimpleTestCase):
    def test_an_input_is_heard_on_an_output_a_block_later_by_its_gain(self):
        plan = plug(small_room(), "Quayside 18", "line out 5", "Quayside 18", "line in 7")
        port = system(plan, "Quayside 18", "MIDI out")
        kick, home = (system(plan, "Quayside 18", f"line in {number}") for number in (5, 7))
        out = system(plan, "Quayside 18", "line out 5")
        one = desk(plan)
        asked = RunSetup(inputs=(kick, home), frames=RATE, fast=True, passed=(Passed(kick, out, -6.0),))
        blocks = one.run(Written([Message(0, port, bytes(KICK))]), asked)
        played, heard = np.concatenate([block.samples for block in blocks]).T
        late = BLOCK + 2 * one.delay_samples()
        likeness = np.fft.irfft(np.fft.rfft(heard) * np.conj(np.fft.rfft(played)))
        self.assertAlmostEqual(int(np.argmax(likeness)), late, delta=1.0)
        self.assertAlmostEqual(20 * np.log10(likeness.max() / np.sum(played**2)), -6.0, delta=0.1)
        with self.assertRaisesRegex(StudioTrouble, "passed on to an output and not recorded"):
            one.run(Written(), RunSetup(inputs=(home,), frames=1, passed=(Passed(kick, out),)))

    def test_sound_that_plays_out_is_asked_for_in_pieces_and_comes_home_whole(self):
        plan = plug(small_room(), "Quayside 18", "line out 5", "Quayside 18", "line in 7")
        out, home = (system(plan, "Quayside 18", label) for label in ("line out 5", "line in 7"))
        one, asked_for = desk(plan), []
        tone = 0.5 * np.sin(2 * np.pi * 997 * np.arange(RATE) / RATE)

        def streamed(start, frames):
            asked_for.append((start, frames))
            return sound_of(tone)(start, frames)

        asked = RunSetup(inputs=(home,), outputs=(out,), frames=RATE, fast=True)
        heard = np.concatenate([block.samples[:, 0] for block in one.run(Written((), {out: streamed}), asked)])
        self.assertEqual(asked_for[:2], [(0, BLOCK), (BLOCK, BLOCK)])
        at = np.arange(4000, RATE)
        wanted = 0.5 * np.sin(2 * np.pi * 997 * (at - 2 * one.delay_samples()) / RATE)
        # What is left is the interface's own noise, 98 dB below full scale.
        self.assertLess(np.abs(heard[at] - wanted).max(), 1e-4)


class WaitingTest(SimpleTestCase):
    def test_the_first_note_is_time_zero_and_the_echo_says_what_left(self):
        plan = small_room()
        heron, bittern = box_named(plan, "Heron 61").uid, box_named(plan, "Bittern").uid
        rules = echo_rules(plan, instrument_named(plan, "Bittern"))
        asked = RunSetup(frames=2 * RATE, fast=True, begins=WITH_A_NOTE, echo=rules)
        nobody = Desk(plan.rig, {bittern: FrontPanel((3,))})
        with self.assertRaisesRegex(StudioTrouble, "nobody plays"):
            next(nobody.run(Written(), asked))
        someone = Desk(plan.rig, {heron: FrontPanel(demo=True), bittern: FrontPanel((3,))})
        blocks = list(someone.run(Written(), asked))
        came = [message for block in blocks for message in block.received]
        sent = [message for block in blocks for message in block.sent]
        self.assertEqual(came[0].time_ns, 0)
        self.assertEqual((came[0].data[0], sent[0].data[0]), (0x90, 0x92))
        self.assertEqual([one.data[1] for one in came], [one.data[1] for one in sent])

    def test_while_it_waits_in_real_time_it_says_so_and_can_be_closed(self):
        plan = small_room()
        run = desk(plan).run(Written(), RunSetup(begins=WITH_A_NOTE))
        self.assertEqual([len(block.samples) for block in itertools.islice(run, 3)], [0, 0, 0])
        run.close()
