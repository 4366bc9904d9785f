"""Prediction, the model over buffers, what makes a sounding stale, and playing together.

Sources: USB 2.0 and MIDI 1.0 specifications for frames and bytes; the formula L = F + (c + k·b)/rate and the figures of
buffers from the definition of a buffer (256 samples at 48 kHz are 5.333 ms); speed of sound 343 m/s at 20 °C.
"""

from dataclasses import replace

from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hypotaxis.core.rig.change import set_sockets, set_up
from hypotaxis.core.rig.values import Delays
from hypotaxis.core.studio import AudioEnd, Reported
from hypotaxis.core.timing.budget import budget, loop_budget, measured_budget, monitored
from hypotaxis.core.timing.buffers import Measured, fit_buffers, in_words
from hypotaxis.core.timing.context import changed, context_of, context_of_loop
from hypotaxis.core.timing.together import spread_ms, together
from hypotaxis.demo.compose import saltmarsh_room
from tests.rooms import box_named, change, instrument_named, small_room, uid_of, unplug


def typed(plan, name, **delays):
    boxes = tuple(replace(box, delays=Delays(**delays)) if box.name == name else box for box in plan.rig.boxes)
    return replace(plan, rig=replace(plan.rig, boxes=boxes))


class BudgetTest(SimpleTestCase):
    def legs(self, plan, name, **more):
        return {leg.kind: leg for leg in budget(plan, instrument_named(plan, name), **more).legs}

    def test_each_leg_has_its_value_its_doubt_and_its_source(self):
        plan = small_room()
        legs = self.legs(plan, "Bittern")
        self.assertEqual((legs["wire"].ms, legs["wire"].half_ms, legs["wire"].origin), (0.96, 0.0, "standard"))
        self.assertAlmostEqual(legs["buffer"].ms, 5.333, 3)
        self.assertEqual(legs["buffer"].origin, "setting")
        self.assertEqual((legs["hop"].name, legs["hop"].ms), ("thru of Sedge", 0.002))
        self.assertEqual((legs["box"].origin, legs["box"].way), ("usual", "out"))
        self.assertNotIn("hop", self.legs(plan, "Sedge upper"))
        whole = budget(plan, instrument_named(plan, "Bittern"))
        self.assertAlmostEqual(whole.ms, sum(leg.ms for leg in whole.legs))
        self.assertGreater(whole.half_ms, max(leg.half_ms for leg in whole.legs))

    def test_what_is_typed_on_the_boxes_is_taken(self):
        plan = typed(small_room(), "Quayside 18", out_ms=0.7, converter_samples=48, driver_samples=96)
        legs = self.legs(typed(plan, "Sedge", reaction_ms=3.1), "Sedge upper")
        self.assertEqual([legs[kind].ms for kind in ("interface", "box", "converter", "driver")], [0.7, 3.1, 1.0, 2.0])
        self.assertEqual({legs[kind].origin for kind in ("interface", "box", "converter", "driver")}, {"typed"})

    def test_a_smaller_buffer_and_another_rate_change_the_buffer_alone(self):
        plan = small_room()
        other = replace(plan, rig=replace(plan.rig, buffer=64, sample_rate=96_000))
        self.assertAlmostEqual(self.legs(other, "Bittern")["buffer"].ms, 0.667, 3)
        self.assertEqual(self.legs(other, "Bittern")["wire"], self.legs(plan, "Bittern")["wire"])

    def test_what_a_measurement_leaves_is_the_boxs(self):
        plan = small_room()
        expected = budget(plan, instrument_named(plan, "Bittern"))
        true = measured_budget(expected, 15.1, 0.1)
        self.assertAlmostEqual(true.ms, 15.1)
        self.assertEqual(next(leg.origin for leg in true.legs if leg.kind == "box"), "measured")
        self.assertEqual(measured_budget(expected, 1.0, 0.1), expected, "less than the rest alone")

    def test_a_loop_goes_out_by_a_buffer_and_home_by_another(self):
        plan = saltmarsh_room()
        found = loop_budget(plan, plan.loops[0])
        self.assertEqual([leg.kind for leg in found.legs].count("buffer"), 2)
        self.assertEqual(next(leg.name for leg in found.legs if leg.kind == "effect"), "Eelgrass")

    def test_what_real_devices_report_stands_for_buffer_and_driver(self):
        plan = small_room()
        inputs = (AudioEnd("system:capture_3", "c3", latency=512), AudioEnd("box:out", "o", physical=False))
        studio = Reported(studio="jack", server="default", rate=48_000, buffer=256, realtime=True, inputs=inputs)
        for end, ms in ((inputs[0], 512 / 48), (inputs[1], 256 / 48)):
            uid = uid_of(plan, "Quayside 18", "line in 3")
            named = replace(set_sockets(plan, {uid: {"system_name": end.name}}), studio=studio)
            legs = self.legs(named, "Bittern")
            self.assertEqual((legs["buffer"].ms, legs["buffer"].origin), (ms, "reported"))
            self.assertNotIn("driver", legs)

    def test_monitoring_through_the_host_costs_a_second_buffer(self):
        plan = typed(small_room(), "Quayside 18", out_ms=1.0, converter_samples=0, driver_samples=0)
        trip = budget(typed(plan, "Sedge", reaction_ms=4.0), instrument_named(plan, "Sedge upper"))
        host, direct = monitored(plan, trip)
        self.assertAlmostEqual(host.ms - trip.ms, 5.333, 3)
        self.assertAlmostEqual(host.metres, host.ms * 0.343, 6)
        self.assertEqual(direct.ms, trip.out_ms)


class BufferModelTest(SimpleTestCase):
    def model(self, *settings, fixed=8.0, samples=70.0, k=1.0, half=0.05):
        return fit_buffers([Measured(b, r, fixed + (samples + k * b) * 1000 / r, half) for b, r in settings])

    def test_one_setting_tells_only_itself(self):
        model = self.model((256, 48_000), (256, 48_000))
        self.assertEqual((model.buffers, model.fixed_ms, model.predict(128, 48_000)), (None, None, None))
        self.assertAlmostEqual(model.predict(256, 48_000).value, 8 + 326 / 48, 6)
        self.assertIn("One at another buffer", in_words(model))

    def test_two_buffers_at_one_rate_tell_k_and_the_rest_together(self):
        model = self.model((64, 48_000), (512, 48_000))
        self.assertAlmostEqual(model.buffers.value, 1.0, 6)
        self.assertAlmostEqual(model.predict(256, 48_000).value, 8 + 326 / 48, 6)
        self.assertEqual((model.fixed_ms, model.fixed_samples, model.predict(256, 44_100)), (None, None, None))
        self.assertIn("cannot be told apart at one rate", in_words(model))

    def test_two_rates_tell_all_three_with_their_errors(self):
        model = self.model((64, 48_000), (512, 48_000), (256, 96_000))
        values = (model.fixed_ms.value, model.fixed_samples.value, model.buffers.value)
        for found, true in zip(values, (8.0, 70.0, 1.0), strict=True):
            self.assertAlmostEqual(found, true, 4)
        near, far = model.predict(256, 48_000), model.predict(4096, 192_000)
        self.assertAlmostEqual(far.value, 8 + 4166 / 192, 4)
        self.assertGreater(far.half, near.half)
        self.assertIn("Lateness is 8.00", in_words(model))

    def test_errors_grow_with_the_scatter_of_the_soundings(self):
        rows = [
            Measured(b, 48_000, 8 + b / 48 + off, 0.05) for b, off in ((64, 0.4), (128, -0.4), (256, 0.4), (512, -0.4))
        ]
        self.assertGreater(fit_buffers(rows).buffers.half, 3 * self.model((64, 48_000), (512, 48_000)).buffers.half)

    @settings(max_examples=40, deadline=None)
    @given(
        st.floats(0, 30),
        st.floats(0, 300),
        st.sampled_from((1.0, 2.0, 3.0)),
        st.sampled_from(((44_100, 96_000), (48_000, 88_200), (48_000, 96_000))),
    )
    def test_whatever_is_told_is_true(self, fixed, samples, k, rates):
        at = [(64, rates[0]), (512, rates[0]), (128, rates[1])]
        model = self.model(*at, fixed=fixed, samples=samples, k=k)
        told = model.predict(1024, rates[1])
        self.assertAlmostEqual(told.value, fixed + (samples + k * 1024) * 1000 / rates[1], 4)


class StaleTest(SimpleTestCase):
    def test_what_changed_on_the_trip_is_named_and_nothing_else(self):
        plan = small_room()
        before = self.context(plan)
        rig = plan.rig
        cases = {
            ("buffer 256, now 128",): replace(plan, rig=replace(rig, buffer=128)),
            ("sample rate 48000, now 96000",): replace(plan, rig=replace(rig, sample_rate=96_000)),
            ("kind of driver not noted, now generic",): replace(plan, rig=replace(rig, driver="generic")),
            ("source of the time stamps not noted, now the driver",): replace(
                plan, rig=replace(rig, stamps="the driver")
            ),
            ("cable path",): unplug(plan, "Bittern", "MIDI in"),
            ("patch",): change(plan, "Bittern", patch="another"),
            ("setting of the box",): set_up(plan, box_named(plan, "Bittern").uid, local="off"),
            (): set_up(plan, box_named(plan, "Alder").uid, local="off"),
        }
        for words, after in cases.items():
            self.assertEqual(changed(before, self.context(after)), words)
        self.assertEqual(self.context(change(plan, "Bittern", notes="deep")), before, "a note changes nothing")

    def context(self, plan):
        return context_of(plan, plan.instruments[2])

    def test_a_loops_path_is_told_too(self):
        plan = saltmarsh_room()
        before = context_of_loop(plan, plan.loops[0])
        self.assertEqual(
            changed(before, context_of_loop(unplug(plan, "Eelgrass", "in"), plan.loops[0])), ("cable path",)
        )


class TogetherTest(SimpleTestCase):
    def test_earlier_or_held_they_stand_together(self):
        late = {"a": 14.2, "b": 16.9, "c": 12.1}
        self.assertAlmostEqual(spread_ms(together(late, "as it is")), 4.8)
        for mode, shifts, heard in (
            ("sent earlier", [-14.2, -16.9, -12.1], 0.0),
            ("held to the slowest", [2.7, 0.0, 4.8], 16.9),
        ):
            rows = together(late, mode)
            for row, shift in zip(rows, shifts, strict=True):
                self.assertAlmostEqual(row.shift_ms, shift)
                self.assertAlmostEqual(row.sounds_ms, heard)
        self.assertEqual(together({}, "held to the slowest"), ())
