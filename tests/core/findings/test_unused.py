"""What is cabled and used by nothing: the cause is told, with what makes use of it."""

from dataclasses import replace

from django.test import SimpleTestCase

from hypotaxis.core.findings.finding import WRONG, alike
from hypotaxis.core.findings.rules import check
from hypotaxis.core.plan import Loop, Plan
from hypotaxis.core.rig.change import add_socket
from tests.core.findings.test_rules import found
from tests.rooms import add_boxes, box_named, change, instrument_named, plug, small_room, uid_of, unplug

IDLE = ("send-idle", "return-idle", "separate-out-unheard")


def idle(plan: Plan) -> list[str]:
    return [finding.title for finding in check(plan) if finding.rule in IDLE]


class UndefinedTest(SimpleTestCase):
    def test_a_cabled_box_is_told_once_with_the_way_to_define_it(self):
        plan = add_boxes(small_room(), ("module", "Reedbed"))
        for cable in (("Alder", "thru", "Reedbed", "MIDI in"), ("Reedbed", "L", "Quayside 18", "line in 7")):
            plan = plug(plan, *cable)
        plan = plug(plan, "Reedbed", "R", "Quayside 18", "line in 8")
        (finding,) = found(plan, "no-instrument-yet")
        self.assertEqual(finding.lead.kind, "instrument")
        self.assertEqual(finding.lead.about, box_named(plan, "Reedbed").uid)
        self.assertIn("comes home on line in 7–8", finding.message)
        self.assertEqual(idle(plan), [])

    def test_a_box_that_only_comes_home_is_told_too(self):
        plan = plug(add_boxes(small_room(), ("mono-synth", "Teal")), "Teal", "out", "Quayside 18", "line in 7")
        self.assertIn("nothing that the host sends reaches it", found(plan, "no-instrument-yet")[0].message)

    def test_a_kick_of_its_own_waits_for_its_box_to_be_defined(self):
        plan = plug(small_room(), "Alder", "kick", "Quayside 18", "line in 7")
        self.assertEqual(idle(plan), ["The kick of Alder is missing"])
        others = tuple(one for one in plan.instruments if one.name != "Alder kit")
        self.assertEqual(idle(replace(plan, instruments=others)), [])

    def test_a_cabled_effect_is_told_until_a_loop_names_it(self):
        plan = plug(add_boxes(small_room(), ("effect", "Eelgrass")), "Quayside 18", "line out 3", "Eelgrass", "in")
        self.assertEqual(found(plan, "no-loop-yet"), [], "one way is told by another rule")
        plan = plug(plan, "Eelgrass", "out", "Quayside 18", "line in 7")
        (finding,) = found(plan, "no-loop-yet")
        self.assertEqual((finding.lead.kind, finding.lead.about), ("loop", box_named(plan, "Eelgrass").uid))
        sends, returns = [uid_of(plan, "Quayside 18", label) for label in ("line out 3", "line in 7")]
        loop = Loop(uid="l", name="delay", box=finding.lead.about, sends=(sends,), returns=(returns,))
        self.assertEqual(found(replace(plan, loops=(loop,)), "no-loop-yet"), [])


class IdleTest(SimpleTestCase):
    def test_a_return_that_is_asked_for_elsewhere_is_not_idle_as_well(self):
        moved = plug(unplug(small_room(), "Bittern", "out"), "Bittern", "out", "Quayside 18", "line in 7")
        (finding,) = [one for one in check(moved) if one.about == instrument_named(moved, "Bittern").uid]
        self.assertEqual(finding.fix.words, "Take line in 7 as its return", "not: plug it back")
        self.assertEqual(idle(moved), [])
        mono = change(small_room(), "Alder kit", returns=(uid_of(small_room(), "Quayside 18", "line in 5"),))
        self.assertEqual(idle(mono), [])

    def test_a_second_way_home_is_brought_home_in_one_move(self):
        plan = small_room()
        bittern = box_named(plan, "Bittern").uid
        plan = add_socket(plan, bittern, label="aux", direction="out", kind="audio", level="line +4")
        plan = plug(plan, "Bittern", "aux", "Quayside 18", "line in 7")
        (finding,) = found(plan, "return-idle")
        mended = finding.fix.apply(plan)
        self.assertEqual(instrument_named(mended, "Bittern").further[0].inputs, (finding.socket,))
        self.assertEqual(idle(mended), [])

    def test_the_missing_kick_is_brought_home_with_its_voice(self):
        plan = plug(small_room(), "Alder", "kick", "Quayside 18", "line in 7")
        mended = found(plan, "separate-out-unheard")[0].fix.apply(plan)
        self.assertEqual([one.name for one in instrument_named(mended, "Alder kit").further], ["kick"])
        self.assertEqual(idle(mended), [])

    def test_no_remedy_takes_out_the_cable_that_was_drawn_last(self):
        whole = plug(
            plug(small_room(), "Alder", "kick", "Quayside 18", "line in 7"), "Sedge", "thru", "Bittern", "MIDI in"
        )
        for instruments in ((), whole.instruments):
            plan = replace(whole, instruments=instruments, rig=replace(whole.rig, cables=()))
            for cable in whole.rig.cables:
                plan = replace(plan, rig=replace(plan.rig, cables=(*plan.rig.cables, cable)))
                for finding in check(plan):
                    after = finding.fix.apply(plan) if finding.fix and finding.severity != WRONG else plan
                    self.assertIn(cable, after.rig.cables, finding.title)


class AlikeTest(SimpleTestCase):
    def test_more_than_two_of_a_kind_are_told_together(self):
        boxes = [("effect", f"Eelgrass {number}") for number in range(1, 41)]
        groups = alike(check(add_boxes(small_room(), *boxes)))
        many = [(first.title, len(others)) for first, others in groups if first.rule == "nothing-connected"]
        self.assertEqual(many, [("Eelgrass 1 is not cabled", 39)])
        two = alike(check(add_boxes(small_room(), *boxes[:2])))
        self.assertEqual([len(others) for first, others in two if first.rule == "nothing-connected"], [0, 0])
