"""The order of the boxes, lanes of the cables, and the inside of a box."""

from dataclasses import replace

from django.test import SimpleTestCase

from hypotaxis.core.drawing.inside import draw_inside
from hypotaxis.core.drawing.lanes import Span, lanes
from hypotaxis.core.drawing.layout import column_order
from hypotaxis.core.drawing.sheet import draw_sheet
from hypotaxis.core.rig import change
from tests.core.findings.test_more_rules import whole_demo
from tests.core.rig.test_routing import locks
from tests.rooms import add_boxes, box_named, plug, uid_of, unplug


def names(plan):
    return [box.name for box in column_order(plan.rig, "poly-synth")]


class LayoutTest(SimpleTestCase):
    def test_the_demo_stands_as_it_was_listed_and_what_goes_together_stays_together(self):
        self.assertEqual(names(whole_demo()), ["Sedge", "Bittern", "Withy", "Sluice", "Reedbed", "Alder", "Eelgrass"])

    def test_something_new_moves_to_where_its_cables_cross_least_and_nothing_else_moves(self):
        plan = add_boxes(whole_demo(), ("poly-synth", "Curlew"))
        self.assertEqual(names(plan)[-1], "Curlew")
        plan = plug(unplug(plan, "Withy", "MIDI in"), "Junction 6", "out 3", "Curlew", "MIDI in")
        plan = plug(unplug(plan, "Sluice", "out"), "Curlew", "L", "Quayside 18", "line in 4")
        moved = names(plan)
        self.assertEqual([name for name in moved if name != "Curlew"], names(whole_demo()))
        self.assertLess(moved.index("Curlew"), moved.index("Reedbed"))

    def test_a_box_put_by_hand_stays_where_it_is(self):
        plan = whole_demo()
        eelgrass = box_named(plan, "Eelgrass")
        after = change.move_box(plan, column_order(plan.rig, "effect"), eelgrass, 0)
        self.assertEqual(names(after)[0], "Eelgrass")
        self.assertEqual(names(change.set_box(after, eelgrass.uid, by_hand=False))[-1], "Eelgrass")

    def test_cables_that_cross_nothing_share_a_lane(self):
        apart = lanes([Span("a", 0, 40), Span("b", 100, 140)], 0, 100)
        self.assertEqual(apart["a"], apart["b"])
        over = lanes([Span("a", 0, 40), Span("b", 20, 120)], 0, 100)
        self.assertGreater(over["a"], over["b"], "of cables that lead down the upper one turns last")
        self.assertEqual(lanes([], 0, 100), {})

    def test_a_converter_stands_beside_what_it_converts(self):
        cards = {card.full_title: card for card in draw_sheet(whole_demo()).boxes if card.role == "boxes"}
        self.assertEqual(cards["Sluice"].y, cards["Withy"].y)
        self.assertGreaterEqual(cards["Sluice"].x, cards["Withy"].x + cards["Withy"].w)

    def test_free_sockets_of_an_interface_stand_in_one_row_until_they_are_chosen_from(self):
        plan = whole_demo()
        rows = {s.label for card in draw_sheet(plan).boxes for s in card.sockets}
        self.assertIn("line out 4–8", rows)
        fitting = frozenset({uid_of(plan, "Quayside 18", f"line out {n}") for n in range(4, 9)})
        rows = {s.label for card in draw_sheet(plan, fitting=fitting).boxes for s in card.sockets}
        self.assertIn("line out 6", rows)

    def test_a_box_with_ports_by_usb_stands_on_both_sides(self):
        plan = plug(add_boxes(whole_demo(), ("desktop-synth", "Teal")), "Teal", "USB", "host", "USB 5")
        roles = [card.role for card in draw_sheet(plan).boxes if card.full_title == "Teal"]
        self.assertEqual(roles, ["sends", "boxes"])
        loud = change.set_sockets(plan, {uid_of(plan, "Teal", "knobs by USB"): {"duty": "played from"}})
        self.assertEqual(len([c for c in draw_sheet(loud).boxes if c.full_title == "Teal"]), 3)


class InsideTest(SimpleTestCase):
    def test_the_matrix_says_what_lies_where(self):
        plan = locks(channels=(1, 2), clock=False)
        drawing = draw_inside(plan.rig, box_named(plan, "Locks"))
        told = {cell.told for _, cells in drawing.rows for cell in cells if cell.route}
        self.assertEqual(told, {"in 1 to out 2, channels 1, 2 only, no clock"})
        self.assertEqual((len(drawing.rows), len(drawing.rows[0][1]), len(drawing.lines)), (4, 4, 1))
        thru = draw_inside(plan.rig, box_named(plan, "Sedge"))
        self.assertTrue(thru.rows[0][1][0].thru)
        self.assertFalse(thru.rows[0][1][1].possible, "MIDI into audio")
        bare = draw_inside(plan.rig, replace(box_named(plan, "Sedge"), sockets=()))
        self.assertEqual((bare.rows, bare.outs), ((), ()))
