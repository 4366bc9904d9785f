"""Each rule finds its fault, says where, and is quiet on a sound rig."""

from django.test import SimpleTestCase

from hypotaxis.core.findings.rules import RULES, WORTH_KNOWING, WRONG, check
from tests.rooms import add_boxes, box_named, change, demo_plan, empty_plan, instrument_named, plug, uid_of, unplug


def found(plan, rule):
    return [finding for finding in check(plan) if finding.rule == rule]


class RulesTest(SimpleTestCase):
    def test_a_sound_rig_has_nothing_wrong_and_an_empty_one_nothing_at_all(self):
        self.assertEqual([f.title for f in check(demo_plan()) if f.severity != WORTH_KNOWING], [])
        self.assertEqual(check(empty_plan()), ())

    def test_each_fault_is_found_where_it_is(self):
        plan = demo_plan()
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
        plan = demo_plan(whole=False)
        (finding,) = found(plan, "return-not-cabled")
        self.assertEqual(finding.socket, uid_of(plan, "Quayside 18", "line in 3"))
        self.assertEqual(finding.title, "Bittern has no way home")

    def test_a_channel_used_twice_is_one_finding_for_both(self):
        plan = change(demo_plan(), "Bittern", channel=1)
        (finding,) = found(plan, "channel-shared")
        self.assertIn("Sedge upper and Bittern listen there", finding.message)
        for name in ("Sedge upper", "Bittern"):
            self.assertTrue(finding.concerns(instrument_named(plan, name).uid))
        self.assertFalse(finding.concerns(instrument_named(plan, "Alder kit").uid))

    def test_a_shared_return_asks_for_a_pass_each(self):
        (finding,) = found(demo_plan(), "return-shared")
        self.assertEqual(finding.title, "Sedge upper and Sedge lower share line in 1–2")
        self.assertEqual(finding.severity, WORTH_KNOWING)

    def test_half_a_pair_taken_home_is_worth_knowing(self):
        plan = demo_plan()
        mono = change(plan, "Alder kit", returns=(uid_of(plan, "Quayside 18", "line in 5"),))
        (finding,) = found(mono, "one-side-only")
        self.assertIn("Only L of Alder", finding.title)
        # With only the left side plugged a mono return is right.
        self.assertEqual(found(unplug(mono, "Alder", "R"), "one-side-only"), [])

    def test_boxes_that_lead_nowhere_or_wait_for_a_definition(self):
        plan = add_boxes(demo_plan(), ("mono-synth", "Teal"))
        (finding,) = found(plan, "nothing-connected")
        self.assertEqual(finding.about, box_named(plan, "Teal").uid)
        heard = plug(plan, "Alder", "thru", "Teal", "MIDI in")
        self.assertEqual(found(heard, "nothing-connected"), [])
        self.assertEqual(found(heard, "no-instrument-yet")[0].about, box_named(plan, "Teal").uid)

    def test_a_socket_that_is_gone_leaves_a_finding_not_an_error(self):
        plan = change(demo_plan(), "Bittern", send="gone", returns=("gone",), box="gone")
        self.assertEqual({f.rule for f in check(plan) if f.severity == WRONG}, {"send-missing", "return-missing"})

    def test_the_serious_ones_come_first_and_every_rule_says_what_it_is(self):
        severities = [f.severity for f in check(demo_plan(whole=False))]
        self.assertEqual(severities, sorted(severities, key=[WRONG, "risky", WORTH_KNOWING].index))
        self.assertTrue(all(rule.__doc__ for rule in RULES))
