"""Coordinates: the sheet, the strips, the glass."""

import itertools
from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.drawing.glass import DEFAULT_SPAN, SPANS_MS, GlassView, draw_glass, draw_wave, ticks
from hypotaxis.core.drawing.peaks import STRETCH, columns_of
from hypotaxis.core.drawing.ruler import channel_cells, next_free_channel
from hypotaxis.core.drawing.sheet import FREE, IDLE, LOOSE, USED, column_counts, draw_sheet, still_free
from hypotaxis.core.drawing.strips import Span, bars_path, extremes, note_bars, outline
from hypotaxis.core.findings.rules import check
from hypotaxis.core.rig.trips import trip_of
from tests.rooms import add_boxes, change, empty_plan, instrument_named, plug, small_room, uid_of


def states(drawing):
    return {socket.uid: socket.state for box in drawing.boxes for socket in box.sockets}


class SheetTest(SimpleTestCase):
    def test_a_cable_wears_its_own_colour_at_both_ends(self):
        plan = small_room()
        first = plan.rig.cable_at(uid_of(plan, "Sedge", "L"))
        more = [one for one in plan.rig.cables if one is not first]
        coloured = replace(plan, rig=replace(plan.rig, cables=(replace(first, colour="red"), *more)))
        drawn = {one.uid: one for one in draw_sheet(coloured).cables}
        self.assertEqual((drawn[first.uid].colour, len(drawn[first.uid].sleeves)), ("red", 2))
        self.assertEqual({len(drawn[one.uid].sleeves) for one in more if one.uid in drawn}, {0})

    def test_columns_stand_in_the_order_of_the_signal(self):
        drawing = draw_sheet(small_room())
        left = {box.role: box.x for box in drawing.boxes}
        self.assertLess(left["hands"], left["sends"])
        self.assertLess(left["sends"], left["boxes"])
        self.assertLess(left["boxes"], left["receives"])
        self.assertEqual([b.full_title for b in drawing.boxes if b.role == "boxes"], ["Sedge", "Bittern", "Alder"])

    def test_a_sockets_state_is_told(self):
        plan = plug(small_room(whole=False), "Alder", "kick", "Quayside 18", "line in 7")
        found = states(draw_sheet(plan, check(plan)))
        expected = {
            ("Sedge", "L"): USED,
            ("Alder", "kick"): IDLE,
            ("Alder", "snare"): FREE,
            ("Quayside 18", "line in 3"): LOOSE,
            ("Quayside 18", "line in 8"): FREE,
        }
        for (box, label), state in expected.items():
            self.assertEqual(found[uid_of(plan, box, label)], state, label)

    def test_a_selected_trip_is_strong_and_the_rest_is_not(self):
        plan = small_room()
        drawing = draw_sheet(plan, trip=trip_of(plan.rig, instrument_named(plan, "Bittern")))
        strong = {c.spoken for c in drawing.cables if c.strong}
        self.assertEqual(len(strong), 3)
        self.assertIn("Cable from Bittern out to Quayside 18 line in 3", strong)
        self.assertTrue(drawing.faded and drawing.leads and drawing.homes)

    def test_cables_end_at_their_sockets_and_never_run_backwards(self):
        drawing = draw_sheet(small_room())
        for cable in drawing.cables:
            if cable.kind != "usb":
                numbers = [float(n) for n in cable.path.replace("M", " ").replace("L", " ").replace("Q", " ").split()]
                xs = numbers[::2]
                self.assertEqual(xs, sorted(xs), cable.spoken)

    def test_cards_do_not_overlap_with_forty_boxes(self):
        plan = add_boxes(small_room(), *[("poly-synth", f"Box {n} with a name that is rather long") for n in range(37)])
        drawing = draw_sheet(plan)
        cards = [box for box in drawing.boxes if box.role == "boxes"]
        self.assertEqual(len(cards), 40)
        for upper, lower in itertools.pairwise(cards):
            self.assertGreaterEqual(lower.y, upper.y + upper.h)
        self.assertGreater(drawing.height, cards[-1].y + cards[-1].h)
        self.assertTrue(all(len(card.title) <= 24 for card in cards))

    def test_an_empty_rig_is_an_empty_sheet(self):
        drawing = draw_sheet(empty_plan())
        self.assertEqual((drawing.boxes, drawing.cables), ((), ()))
        self.assertEqual(column_counts(empty_plan().rig), {"hands": 0, "interface": 0, "boxes": 0})

    def test_what_is_still_free(self):
        free = still_free(small_room().rig)
        self.assertEqual(free["Boxes"], ["Heron 61 MIDI out", "Alder thru", "Alder kick", "Alder snare"])
        self.assertEqual(free["Returns"], ["Quayside 18 line in 4", "Quayside 18 line in 7–8", "Quayside 18 MIDI in"])
        self.assertEqual(free["Sends"], ["Quayside 18 line out 1–8"])


class RulerTest(SimpleTestCase):
    def test_who_sits_where(self):
        plan = change(small_room(), "Alder kit", channel=3)
        send = instrument_named(plan, "Bittern").send
        cells = channel_cells(plan, send, instrument_named(plan, "Bittern").uid)
        self.assertEqual([cell.state for cell in cells[:4]], ["other", "other", "shared", "free"])
        self.assertEqual(cells[2].names, ("Bittern", "Alder kit"))
        self.assertEqual(next_free_channel(plan, send), 4)
        self.assertEqual({cell.state for cell in channel_cells(plan, "")}, {"free"})


class StripTest(SimpleTestCase):
    def test_notes_stand_where_they_sound(self):
        span = Span(1000, 2000, 500)
        starts, ends = np.array([0.0, 1000, 1500, 2500]), np.array([500.0, 1200, 2500, 3000])
        bars = note_bars(starts, ends, np.array([60, 60, 72, 60]), span, 32)
        self.assertEqual([(bar.x, round(bar.x + bar.w)) for bar in bars], [(0.0, 100), (250.0, 500)])
        self.assertLess(bars[1].y, bars[0].y)
        self.assertEqual(bars_path(np.zeros((0, 3))), "")

    def test_extremes_keep_every_peak(self):
        samples = np.zeros(1000)
        samples[[3, 501, 998]] = (0.9, -0.8, 0.7)
        low, high = extremes(samples, 50)
        self.assertEqual((high.max(), low.min(), high[-1]), (0.9, -0.8, 0.7))
        self.assertEqual(len(extremes(np.zeros(0), 10)[0]), 0)

    def test_silence_in_a_waveform_has_no_points_but_its_ends(self):
        high = np.array([0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0])
        drawn = outline(-high, high, 0.0, 1.0, 40)
        top, bottom = drawn[:-1].split("L")[:6], drawn[:-1].split("L")[6:]
        self.assertEqual(top, ["M0.5 20", "3.5 20", "4.5 0", "5.5 20", "7.5 20", "7.5 20.4"])
        self.assertEqual(bottom, ["5.5 20.4", "4.5 40", "3.5 20.4", "0.5 20.4"])

    def test_columns_outside_a_take_are_silent(self):
        peaks = np.tile(np.array([[-0.5, 0.5]], dtype=np.float32), (10, 1))
        low, high = columns_of(peaks, np.linspace(-10, 20, 31) * STRETCH)
        self.assertEqual(high[:10].tolist() + high[20:].tolist(), [0.0] * 20)
        self.assertTrue((low[10:20] == -0.5).all())


class GlassTest(SimpleTestCase):
    def view(self, span=DEFAULT_SPAN, offset=0.0):
        return GlassView(48000.0, span, offset, 48000)

    def test_the_usual_window_is_minus_5_to_40_ms(self):
        view = self.view()
        self.assertAlmostEqual(view.first_ms, -5.0)
        self.assertEqual([label for _, label in ticks(view)], ["0", "+10", "+20", "+30"])
        self.assertAlmostEqual(view.span.x(48000.0), 160 / 9)

    def test_every_zoom_has_a_readable_scale(self):
        for span in SPANS_MS:
            marks = ticks(self.view(span))
            self.assertTrue(2 <= len(marks) <= 6, (span, marks))

    def test_zoomed_in_single_samples_are_drawn_where_they_stand(self):
        view = self.view(span=SPANS_MS[-1])
        first, last = view.window()
        samples = np.zeros(last - first)
        samples[48000 - first] = 0.5
        notes = (np.array([48000.0]), np.array([50000.0]), np.array([60]))
        placed = draw_wave(view, samples, 1.0, body=True)
        drawing = draw_glass(view, notes=notes, placed=placed)
        self.assertEqual(len(placed.dots), len(samples))
        tall = min(placed.dots, key=lambda dot: dot[1])
        self.assertAlmostEqual(tall[0], drawing.zero_x, delta=0.01)
        self.assertEqual(tall[1], 11.0)
        self.assertTrue(placed.path.endswith("z"), "filled down to the zero line")

    def test_without_a_take_only_notes_are_drawn(self):
        notes = (np.array([48000.0]), np.array([50000.0]), np.array([60]))
        drawing = draw_glass(self.view(), notes=notes)
        self.assertEqual((drawing.placed.path, drawing.arrived.path, len(drawing.bars)), ("", "", 1))
