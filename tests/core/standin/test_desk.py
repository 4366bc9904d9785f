"""The stand-in behaves like a desk: wires, boxes, clocks, and nothing told that a real one would not tell."""

import dataclasses
import itertools
import time

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.errors import PortMissing
from hypotaxis.core.session.schedule import plan_run
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Message, RunSetup, Written
from hypotaxis.core.timing.lateness import measure
from hypotaxis.core.timing.moments import distinct_moments
from hypotaxis.core.timing.recording import HeldRecording
from hypotaxis.demo.compose import tide_tables
from hypotaxis.standin.desk import Desk
from hypotaxis.standin.units import FrontPanel
from hypotaxis.standin.wire import NEVER, Ear, Wire
from tests.core.rig.test_links import estuary, without_routes
from tests.core.session.test_schedule import part
from tests.rooms import box_named, plug, small_room, uid_of

MS = 1_000_000


def desk(plan=None, seed=1):
    plan = plan or small_room()
    panels = {box_named(plan, "Bittern").uid: FrontPanel((3,))}
    return Desk(plan.rig, panels, seed=seed)


def system(plan, box, label):
    return plan.rig.find(uid_of(plan, box, label))[1].system_name


def hear(one, plan, notes, *lines, seconds=0.6, **options):
    """Play (time in ms, bytes) on the DIN out and record the lines in; shape (frames, lines)."""
    port = system(plan, "Quayside 18", "MIDI out")
    messages = [Message(round(at * MS), port, bytes(data)) for at, data in notes]
    names = [system(plan, "Quayside 18", f"line in {line}") for line in lines]
    asked = RunSetup(inputs=tuple(names), frames=round(seconds * 48000), **({"fast": True} | options))
    blocks = one.run(Written(messages), asked)
    return np.concatenate([block.samples for block in blocks])


def queued(handed):
    """(end of the byte in ns, byte) of messages that queue for a wire."""
    wire = Wire()
    for time_ns, data in handed:
        wire.hand(time_ns, data)
    return wire.until(NEVER)


KICK, SNARE = (0x99, 36, 110), (0x99, 38, 110)


class WireTest(SimpleTestCase):
    def test_bytes_take_320_microseconds_each(self):
        # MIDI 1.0 Detailed Specification: ten notes at one tick, the last byte of the last 9.60 ms behind.
        ends = [end for end, _ in queued([(0, bytes([0x90, note, 100])) for note in range(10)])]
        self.assertEqual(ends[-1], 9_600_000)

    def test_real_time_bytes_go_in_between(self):
        sent = list(queued([(0, b"\x90\x3c\x64"), (100_000, b"\xf8")]))
        self.assertEqual([byte for _, byte in sent], [0x90, 0xF8, 0x3C, 0x64])

    def test_running_status_is_understood_and_cancelled_by_system_common(self):
        stream = [0x90, 60, 100, 61, 100, 0xF8, 62, 100, 0xF6, 63, 100]
        heard = list(Ear().hear(enumerate(stream)))
        self.assertEqual([message.data[0] for message in heard if message.data], [60, 61, 62])


class DeskTest(SimpleTestCase):
    def test_fast_and_real_time_give_the_same_samples(self):
        plan = small_room()
        notes = [(10, KICK), (60, (0x92, 40, 100))]
        quick = hear(desk(), plan, notes, 3, 5, seconds=0.3)
        began = time.monotonic()
        slow = hear(desk(), plan, notes, 3, 5, seconds=0.3, fast=False)
        self.assertGreaterEqual(time.monotonic() - began, 0.29)
        np.testing.assert_array_equal(quick, slow)

    def test_only_what_is_cabled_and_addressed_is_heard(self):
        plan = small_room()
        heard = hear(desk(), plan, [(10, KICK)], 1, 3, 5, 6)
        loud = np.abs(heard).max(axis=0) > 0.05
        self.assertEqual(loud.tolist(), [False, False, True, True])
        nobody = hear(desk(), plan, [(10, (0x9F, 36, 110))], 3, 5)
        self.assertLess(np.abs(nobody).max(), 0.001)
        cut = hear(desk(small_room(whole=False)), small_room(whole=False), [(10, (0x92, 40, 110))], 3)
        self.assertLess(np.abs(cut).max(), 0.001)

    def test_the_front_panel_decides_what_a_box_hears_not_the_plan(self):
        plan = small_room()
        as_delivered = Desk(plan.rig)
        self.assertLess(np.abs(hear(as_delivered, plan, [(10, (0x92, 40, 110))], 3)).max(), 0.001)
        self.assertGreater(np.abs(hear(as_delivered, plan, [(10, (0x90, 40, 110))], 3)).max(), 0.05)

    def test_a_box_behind_a_usb_host_sounds_through_it(self):
        plan = plug(estuary(), "Teal", "L", "Quayside 18", "line in 7")
        for routed in (plan, without_routes(plan, "Estuary")):
            one = Desk(routed.rig, {box_named(routed, "Teal").uid: FrontPanel((3,))}, seed=1)
            heard = np.abs(hear(one, routed, [(100, (0x92, 48, 100))], 7)).max()
            self.assertEqual(heard > 0.05, routed is plan)
            self.assertNotIn("notes by USB", " ".join(port.system_name for port in one.ports()))

    def test_a_separate_out_takes_its_voice_out_of_the_main(self):
        plan = plug(small_room(), "Alder", "kick", "Quayside 18", "line in 7")
        heard = hear(desk(plan), plan, [(10, KICK)], 5, 7)
        self.assertLess(np.abs(heard[:, 0]).max(), 0.001)
        self.assertGreater(np.abs(heard[:, 1]).max(), 0.05)
        snare = hear(desk(plan), plan, [(10, SNARE)], 5, 7)
        self.assertGreater(np.abs(snare[:, 0]).max(), 0.05)

    def test_patches_sound_different(self):
        plan = small_room()
        pluck = hear(desk(), plan, [(0, (0xC0, 0)), (10, (0x90, 60, 100))], 1)
        pad = hear(desk(), plan, [(0, (0xC0, 1)), (10, (0x90, 60, 100))], 1)
        rise = [int(np.argmax(np.abs(sound) > 0.5 * np.abs(sound).max())) for sound in (pluck[:, 0], pad[:, 0])]
        self.assertGreater(rise[1] - rise[0], 500)

    def test_notes_at_one_tick_queue_on_the_wire(self):
        plan = small_room()
        one = desk()
        hear(one, plan, [(10, (0x90, note, 100)) for note in (60, 64, 67)], 1)
        heard = [hit.heard_ns for hit in one.played()]
        self.assertEqual([round((b - a) / 1000) for a, b in itertools.pairwise(heard)], [960, 960])

    def test_the_recording_begins_to_sound_where_the_log_says(self):
        plan = small_room()
        one = desk()
        heard = hear(one, plan, [(50 + 100 * n, KICK) for n in range(5)], 5, seconds=0.7)[:, 0]
        for hit in one.played():
            frame = one.frame_of(hit.begins_s)
            at = int(np.ceil(frame))
            self.assertGreater(abs(heard[at]), 10 * abs(heard[at - 4 : at].max()) if hit is one.played()[0] else 0)
            # Reaction, wire, buffer and converters together: late, but not absurdly.
            self.assertTrue(300 < frame - hit.heard_ns * 48000 / 1e9 < 1200)

    def test_a_level_turned_while_a_run_goes_on_is_heard_and_a_demo_needs_no_notes(self):
        plan = small_room()
        bittern = box_named(plan, "Bittern").uid
        panel = FrontPanel((3,), demo=True)
        turned = iter([0.0, *[-20.0] * 50])
        one = Desk(
            plan.rig,
            {bittern: panel},
            turned=lambda: {bittern: dataclasses.replace(panel, level_db=next(turned))},
            seed=1,
        )
        sound = hear(one, plan, [], 3, seconds=0.7)
        live = Desk(
            plan.rig,
            {bittern: panel},
            turned=lambda: {bittern: dataclasses.replace(panel, level_db=next(turned))},
            seed=1,
        )
        quieter = hear(live, plan, [], 3, seconds=0.7, fast=False)
        self.assertGreater(np.abs(sound).max(), 0.05)
        at = 24000
        ratio = np.abs(quieter[at:]).max() / np.abs(sound[at:]).max()
        self.assertAlmostEqual(20 * np.log10(ratio), -20, delta=0.5)

    def test_the_gain_of_an_input_lifts_its_sound_until_it_clips(self):
        plan = small_room()
        bittern, quayside = (box_named(plan, name).uid for name in ("Bittern", "Quayside 18"))
        heard = []
        for gain in (0.0, 6.0, 40.0):
            panels = {
                bittern: FrontPanel((3,), demo=True, level_db=-12),
                quayside: FrontPanel(gains={"line in 3": gain}),
            }
            heard.append(hear(Desk(plan.rig, panels, seed=1), plan, [], 3, seconds=0.7))
        self.assertAlmostEqual(np.abs(heard[1]).max() / np.abs(heard[0]).max(), 10 ** (6 / 20), delta=0.01)
        self.assertGreater(np.sum(np.abs(heard[2]) >= 0.9999), 1000)

    def test_ports_that_are_not_there_are_named(self):
        one = desk()
        with self.assertRaisesRegex(PortMissing, "MIDI output “elsewhere”"):
            one.run(Written([Message(0, "elsewhere", b"\x90\x3c\x64")]), RunSetup(frames=100, fast=True))
        with self.assertRaisesRegex(PortMissing, "audio input “nowhere”"):
            one.run(Written(), RunSetup(inputs=("nowhere",), frames=100, fast=True))

    def test_full_scale_is_held_and_clips(self):
        plan = small_room()
        loud = Desk(plan.rig, {box_named(plan, "Alder").uid: FrontPanel((10,), level_db=12)})
        heard = hear(loud, plan, [(10, KICK)], 5)
        self.assertEqual(float(heard.max()), float(np.float32(1 - 2**-23)))

    def test_lateness_of_the_stand_in_is_found_within_a_sample(self):
        plan, tempo = small_room(), TempoMap(480, ((0, 625_000),))
        kit = next(p for p in tide_tables().parts if p.name == "Alder kick")
        kicks = kit.notes
        port = system(plan, "Quayside 18", "MIDI out")
        played = dataclasses.replace(part(kicks.tolist(), channel=10), port=port)
        run = plan_run([played], tempo, first_bar=1, last_bar=16, sample_rate=48000)
        one = desk()
        names = [system(plan, "Quayside 18", "line in 5")]
        blocks = one.run(Written(run.messages), RunSetup(inputs=tuple(names), frames=run.frames, fast=True))
        recorded = np.concatenate([block.samples for block in blocks])
        positions = tempo.samples_at(kicks["tick"], 48000) - run.first_sample
        found = measure(HeldRecording(recorded, 48000), distinct_moments(positions, 48000))
        truth = [one.frame_of(hit.begins_s) - at for hit, at in zip(one.played(), positions, strict=True)]
        self.assertEqual(found.used, len(kicks))
        self.assertAlmostEqual(found.samples, float(np.median(truth)), delta=1.0)
        line = np.polynomial.Polynomial.fit(positions, truth, 1)
        self.assertAlmostEqual(found.jitter_ms, float(np.std(truth - line(positions)) / 48), delta=0.03)
