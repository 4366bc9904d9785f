"""Each rule finds its fault, says where, and is quiet on a sound rig."""

from dataclasses import replace

from django.test import SimpleTestCase

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG
from hypotaxis.core.findings.rules import RULES, check, name_of
from tests.rooms import add_boxes, box_named, change, empty_plan, instrument_named, plug, small_room, uid_of, unplug


def found(plan, rule):
    return [finding for finding in check(plan) if finding.rule == rule]


class RulesTest(SimpleTestCase):
    def test_a_sound_rig_has_nothing_wrong_and_an_empty_one_nothing_at_all(self):
        self.assertEqual([f.title for f in check(small_room()) if f.severity != WORTH_KNOWING], [])
        self.assertEqual(check(empty_plan()), ())

    def test_each_fault_is_found_where_it_is(self):
        plan = small_room()
        line = uid_of(plan, "Quayside 18", "line in 5")
        cases = {
            "send-missing": change(plan, "Bittern", send=""),
            "box-not-reached": unplug(plan, "Sedge", "thru"),
            "return-missing": change(plan, "Bittern", returns=()),
            "return-not-cabled": unplug(plan, "Bittern", "out"),
            "return-from-another-box": change(plan, "Bittern", returns=(line,)),
        }
        for rule, faulty in cases.items():
            with self.subTest(rule):
                findings = [f for f in found(faulty, rule) if f.about == instrument_named(plan, "Bittern").uid]
                self.assertEqual(len(findings), 1)
                self.assertEqual(findings[0].severity, WRONG)
                self.assertTrue(findings[0].message and findings[0].remedy)

    def test_a_loose_end_names_its_socket(self):
        plan = small_room(whole=False)
        (finding,) = found(plan, "return-not-cabled")
        self.assertEqual(finding.socket, uid_of(plan, "Quayside 18", "line in 3"))
        self.assertEqual(finding.title, "Bittern has no way home")

    def test_a_channel_used_twice_is_one_finding_for_both(self):
        plan = change(small_room(), "Bittern", channel=1)
        (finding,) = found(plan, "channel-shared")
        self.assertIn("Sedge upper and Bittern listen there", finding.message)
        for name in ("Sedge upper", "Bittern"):
            self.assertTrue(finding.concerns(instrument_named(plan, name).uid))
        self.assertFalse(finding.concerns(instrument_named(plan, "Alder kit").uid))

    def test_a_shared_return_asks_for_a_pass_each(self):
        (finding,) = found(small_room(), "return-shared")
        self.assertEqual(finding.title, "Sedge upper and Sedge lower share line in 1–2")
        self.assertEqual(finding.severity, WORTH_KNOWING)

    def test_half_a_pair_taken_home_is_worth_knowing(self):
        plan = small_room()
        mono = change(plan, "Alder kit", returns=(uid_of(plan, "Quayside 18", "line in 5"),))
        (finding,) = found(mono, "one-side-only")
        self.assertIn("Only L of Alder", finding.title)
        # With only the left side plugged a mono return is right.
        self.assertEqual(found(unplug(mono, "Alder", "R"), "one-side-only"), [])

    def test_boxes_that_lead_nowhere_or_wait_for_a_definition(self):
        plan = add_boxes(small_room(), ("mono-synth", "Teal"))
        (finding,) = found(plan, "nothing-connected")
        self.assertEqual(finding.about, box_named(plan, "Teal").uid)
        heard = plug(plan, "Alder", "thru", "Teal", "MIDI in")
        self.assertEqual(found(heard, "nothing-connected"), [])
        self.assertEqual(found(heard, "no-instrument-yet")[0].about, box_named(plan, "Teal").uid)

    def test_a_socket_that_is_gone_leaves_a_finding_not_an_error(self):
        plan = change(small_room(), "Bittern", send="gone", returns=("gone",), box="gone")
        self.assertEqual({f.rule for f in check(plan) if f.severity == WRONG}, {"send-missing", "return-missing"})

    def test_the_serious_ones_come_first_and_every_rule_says_what_it_is(self):
        severities = [f.severity for f in check(small_room(whole=False))]
        self.assertEqual(severities, sorted(severities, key=[WRONG, "risky", WORTH_KNOWING].index))
        self.assertTrue(all(rule.__doc__ for rule in RULES))


class CablingRulesTest(SimpleTestCase):
    def long(self, plan, box, label, length_m):
        """The plan with a length noted on one cable."""
        cable = plan.rig.cable_at(uid_of(plan, box, label))
        cables = tuple(replace(c, length_m=length_m) if c == cable else c for c in plan.rig.cables)
        return replace(plan, rig=replace(plan.rig, cables=cables))

    def socket_set(self, plan, box, label, **fields):
        """The plan with one socket changed."""
        boxes = tuple(
            replace(b, sockets=tuple(replace(s, **fields) if s.label == label else s for s in b.sockets))
            if b.name == box
            else b
            for b in plan.rig.boxes
        )
        return replace(plan, rig=replace(plan.rig, boxes=boxes))

    def test_each_rule_on_a_rig_that_breaks_it(self):
        plan = small_room()
        effect = add_boxes(plan, ("effect", "Eelgrass"))
        line = [uid_of(plan, "Quayside 18", f"line in {n}") for n in range(1, 9)]
        spare = self.socket_set(plan, "Quayside 18", "MIDI out", duty="spare")
        kick = plug(plan, "Alder", "kick", "Quayside 18", "line in 7")
        named = self.socket_set(
            self.socket_set(plan, "Quayside 18", "MIDI out", port_name="Left"),
            "Quayside 18",
            "line out 1",
            port_name="left",
        )
        second = replace(instrument_named(plan, "Bittern"), uid="x", name="Second", channel=4)
        crowd = replace(plan, instruments=(*plan.instruments, second))
        chain = plug(add_boxes(plan, ("mono-synth", "Teal")), "Alder", "thru", "Teal", "MIDI in")
        crossed = plug(add_boxes(plan, ("interface-8", "Pier")), "Pier", "MIDI out", "Quayside 18", "MIDI in")
        straight = plug(plan, "Quayside 18", "line out 5", "Quayside 18", "line in 7")
        # 15 m (50 ft) of DIN: MIDI 1.0 Detailed Specification; 5 m: USB 2.0; three thrus: common practice.
        cases = [
            ("port-set-aside", WRONG, spare, "“spare”"),
            ("left-and-right-swapped", RISKY, change(plan, "Alder kit", returns=(line[5], line[4])), "Alder kit"),
            ("not-a-pair", RISKY, change(kick, "Alder kit", returns=(line[4], line[6])), "L and kick"),
            ("more-instruments-than-parts", RISKY, crowd, "1 part for 2 channels"),
            ("home-trim-high", WORTH_KNOWING, change(plan, "Bittern", home_trim_db=15.0), "15.0 dB"),
            ("midi-run-too-long", RISKY, self.long(plan, "Sedge", "MIDI in", 16.0), "16 m from Quayside 18 MIDI out"),
            ("usb-run-too-long", RISKY, self.long(plan, "Heron 61", "USB", 6.1), "6.1 m from Heron 61 USB"),
            ("thru-chain-long", WORTH_KNOWING, chain, "4 boxes are chained on Quayside 18 MIDI out"),
            ("interface-not-joined", WRONG, unplug(plan, "Quayside 18", "USB"), "Quayside 18 is not joined"),
            ("send-idle", WORTH_KNOWING, crossed, "Pier MIDI out is idle"),
            ("return-idle", WORTH_KNOWING, straight, "Line in 7 is idle"),
            ("second-interface", WORTH_KNOWING, add_boxes(plan, ("interface-8", "Pier")), "Pier is not recorded from"),
            ("separate-out-unheard", RISKY, kick, "The kick of Alder is missing"),
            ("right-without-left", WORTH_KNOWING, unplug(plan, "Sedge", "L"), "Only R of Sedge"),
            (
                "effect-one-way",
                WORTH_KNOWING,
                plug(effect, "Quayside 18", "line out 3", "Eelgrass", "in"),
                "no return brings it home",
            ),
            ("audio-into-itself", WRONG, plug(effect, "Eelgrass", "out", "Eelgrass", "in"), "plugged into itself"),
            ("same-name", WORTH_KNOWING, add_boxes(plan, ("effect", " sedge")), "2 boxes are called Sedge"),
            ("same-port-name", RISKY, named, "2 ports are called Left"),
        ]
        for rule, severity, faulty, words in cases:
            with self.subTest(rule):
                self.assertEqual(found(plan, rule), [], "quiet on the sound rig")
                first = found(faulty, rule)[0]
                self.assertEqual(first.severity, severity)
                self.assertIn(words, f"{first.title} {first.message}")
                self.assertTrue(first.remedy.endswith("."))

    def test_at_the_limit_nothing_is_said(self):
        plan = self.long(self.long(small_room(), "Sedge", "MIDI in", 15.0), "Heron 61", "USB", 5.0)
        self.assertEqual([f for f in check(plan) if f.rule.endswith("too-long")], [])

    def test_names_of_rules_are_their_own(self):
        self.assertEqual(len({name_of(rule) for rule in RULES}), len(RULES))
