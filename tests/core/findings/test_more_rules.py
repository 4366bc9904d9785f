"""Rules about routing, ports, clock, levels and what is done by hand; remedies; findings that are meant.

Limits: MIDI 1.0 Detailed Specification (0.96 ms a note on), USB 2.0 (five hubs). Levels: EBU R 68 (+18 dBu), the two
line levels 11.78 dB apart; modular 10 V peak to peak, microphone −40 dBu and gains needed are common practice.
"""

from dataclasses import replace

from django.test import SimpleTestCase

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG
from hypotaxis.core.findings.meant import mark_meant, no_longer_meant
from hypotaxis.core.findings.rules import RULES, check, check_all, name_of
from hypotaxis.core.plan import Loop, Part, Plan
from hypotaxis.core.rig.change import (
    add_route,
    set_box,
    set_cable,
    set_instrument,
    set_rig,
    set_route,
    set_sockets,
    set_up,
    with_cable,
)
from hypotaxis.core.rig.startup import HOST_ON, on_key
from hypotaxis.core.studio import Port
from hypotaxis.demo.compose import saltmarsh_room
from tests.core.findings.test_rules import found
from tests.rooms import add_boxes, box_named, change, instrument_named, plug, small_room, uid_of, unplug

QUIET = {"nothing-connected", "no-instrument-yet", "second-interface", "send-idle", "return-idle", "waiting-for-clock"}


def whole_demo() -> Plan:
    """The complete demo with its one missing cable plugged."""
    return plug(saltmarsh_room(), "Sluice", "out", "Quayside 18", "line in 4")


def box_set(plan: Plan, name: str, **fields) -> Plan:
    return set_up(plan, box_named(plan, name).uid, **fields)


def socket_set(plan: Plan, box: str, label: str, **fields) -> Plan:
    return set_sockets(plan, {uid_of(plan, box, label): fields})


def route(plan: Plan, box: str, source: str, target: str, **fields) -> Plan:
    plan = add_route(plan, uid_of(plan, box, source), uid_of(plan, box, target))
    return set_route(plan, box_named(plan, box).routes[-1].uid, **fields)


def straight(plan: Plan, box: str, label: str, goal: str, goal_label: str) -> Plan:
    """The plan with a cable that no check of plugging has seen, as a file may bring it."""
    return plug(unplug(plan, box, label), box, label, goal, goal_label)


def mic_room(level: str) -> Plan:
    """Bittern's out of a level in the first mic input, which takes 0 dBu."""
    plan = socket_set(unplug(whole_demo(), "Alder", "kick"), "Quayside 18", "mic 1", max_dbu=None)
    plan = socket_set(plan, "Bittern", "out", level=level)
    return straight(plan, "Bittern", "out", "Quayside 18", "mic 1")


class RulesTest(SimpleTestCase):
    def test_the_demo_whole_has_nothing_wrong_or_risky(self):
        self.assertEqual([f.title for f in check(whole_demo()) if f.severity != WORTH_KNOWING], [])
        self.assertGreaterEqual(len(RULES), 55)

    def cases(self):
        plan = whole_demo()
        merged = plug(add_boxes(plan, ("merger", "Weir")), "Sedge", "thru", "Weir", "in 1")
        merged = straight(merged, "Weir", "out", "Bittern", "MIDI in")
        router = plug(add_boxes(plan, ("midi-router", "Locks")), "Junction 6", "out 1", "Locks", "in 1")
        router = straight(router, "Locks", "out 1", "Bittern", "MIDI in")
        router = set_instrument(
            router, instrument_named(router, "Bittern").uid, send=uid_of(router, "Junction 6", "out 1")
        )
        passed = route(router, "Locks", "in 1", "out 1")
        circle = plug(add_boxes(plan, ("midi-router", "Locks")), "Locks", "out 1", "Locks", "in 1")
        desk = add_boxes(plan, ("desktop-synth", "Teal"))
        keys = plug(add_boxes(plan, ("workstation", "Curlew")), "Curlew", "USB", "host", "USB 5")
        keys = plug(straight(keys, "Junction 6", "out 6", "Curlew", "MIDI in"), "Curlew", "L", "Quayside 18", "mic 2")
        curlew = replace(instrument_named(keys, "Bittern"), uid="c", name="Curlew", box=box_named(keys, "Curlew").uid)
        keys = replace(keys, instruments=(*keys.instruments, replace(curlew, send=uid_of(keys, "Junction 6", "out 6"))))
        hubs = add_boxes(plan, ("pads", "Pads"), *(("usb-hub", f"Hub {n}") for n in range(6)))
        hubs = plug(hubs, "Pads", "USB", "Hub 0", "USB 1")
        for n in range(5):
            hubs = plug(hubs, f"Hub {n}", "to the computer", f"Hub {n + 1}", "USB 1")
        hubs = plug(hubs, "Hub 5", "to the computer", "host", "USB 5")
        seen = replace(plan, reported=tuple(Port(e, "out") for e in ("Some port", "Other")))
        held = Port(plan.rig.find(uid_of(plan, "Junction 6", "out 2"))[1].system_name, "out", taken=True)
        following = plug(add_boxes(plan, ("step-sequencer", "Steps")), "Steps", "USB", "host", "USB 5")
        leading = box_set(following, "Steps", clock="internal")
        clocked = socket_set(plan, "Junction 6", "out 5", clock=True)
        twice = socket_set(plan, "Quayside 18", "line in 3", both_sides=True)
        cancel = socket_set(plan, "Bittern", "out", both_sides=True)
        bittern = instrument_named(plan, "Bittern").uid
        lines = [uid_of(plan, "Quayside 18", f"line in {n}") for n in (3, 4)]
        hot = straight(unplug(plan, "Sluice", "out"), "Withy", "out", "Quayside 18", "line in 4")
        weak = plug(
            unplug(add_boxes(plan, ("level-converter-both", "Gate")), "Bittern", "out"), "Bittern", "out", "Gate", "in"
        )
        loud = set_box(plan, box_named(plan, "Sluice").uid, routes=())
        loud = route(loud, "Sluice", "in", "out", gain_db=2.0)
        long = set_cable(plan, plan.rig.cable_at(uid_of(plan, "Bittern", "out")).uid, length_m=9.0)
        started = replace(plan, ticked=frozenset({HOST_ON, on_key(box_named(plan, "Junction 6"))}))
        begun = replace(plan, ticked=frozenset({f"panel-{box_named(plan, 'Bittern').uid}-channel-1-3"}))
        return [
            ("midi-loop", WRONG, route(circle, "Locks", "in 1", "out 1"), "Locks → Locks"),
            ("loop-through-host", WRONG, self.played_back(plan), "host → Sedge → Bittern → Junction 6 → host"),
            (
                "channel-held-back",
                WRONG,
                route(router, "Locks", "in 1", "out 1", channels=(1, 2)),
                "Channel 3 does not",
            ),
            (
                "reached-twice",
                RISKY,
                self.twice(plan),
                "reaches it through Groyne and Weir and through Groyne, Sedge and Weir",
            ),
            (
                "omni-on-shared-socket",
                RISKY,
                box_set(plan, "Bittern", omni=True),
                "it plays Sedge upper and Sedge lower too",
            ),
            ("local-and-echo", RISKY, keys, "Curlew sounds twice"),
            ("passed-on-by-software", WORTH_KNOWING, passed, "0.96 ms later for the way through Locks"),
            ("more-parts-than-channels", WORTH_KNOWING, self.crowd(plan), "18 parts share the 16 channels"),
            ("port-not-seen", WRONG, self.defined(desk, "Teal", "notes by USB"), "cannot see Teal notes by USB"),
            ("port-missing", WRONG, seen, "is missing"),
            ("port-taken", WRONG, replace(plan, reported=(held,)), "Junction out 2 is taken"),
            ("surface-among-keys", WRONG, socket_set(plan, "Causeway", "surface", duty="played from"), "the keys in"),
            ("hubs-too-deep", RISKY, hubs, "Pads is behind 6 hubs"),
            ("no-keys-in", WORTH_KNOWING, socket_set(plan, "Heron 61", "keys", duty="spare"), "No port is played from"),
            (
                "two-leaders",
                WRONG,
                socket_set(leading, "Junction 6", "out 5", clock=True),
                "The host and Steps all lead",
            ),
            ("leader-follows", WRONG, set_rig(following, leader=box_named(following, "Steps").uid), "is set to follow"),
            ("clock-to-internal", RISKY, clocked, "Alder does not listen to the clock"),
            ("waiting-for-clock", RISKY, box_set(plan, "Alder", clock="external"), "Alder waits for a clock"),
            ("stereo-into-mono", RISKY, cancel, "Bittern out is stereo"),
            ("mono-into-stereo", WORTH_KNOWING, twice, "Only the left side of Quayside 18 line in 3"),
            ("both-sides-from-one", RISKY, set_instrument(plan, bittern, returns=tuple(lines)), "Bittern is mono"),
            (
                "separate-out-expected",
                RISKY,
                box_set(plan, "Alder", uses=("kick", "snare")),
                "snare of Alder has no cable",
            ),
            ("modular-into-line", WRONG, hot, "Withy is 9 dB above what Quayside 18 line in 4 expects"),
            ("line-into-modular", RISKY, weak, "Bittern is 9 dB too weak for Gate in"),
            ("line-into-microphone", RISKY, mic_room("line +4"), "Bittern is 44 dB above a microphone"),
            (
                "line-into-instrument",
                RISKY,
                socket_set(plan, "Quayside 18", "line in 3", level="instrument"),
                "24 dB too loud",
            ),
            ("too-weak", WORTH_KNOWING, socket_set(plan, "Bittern", "out", level="instrument"), "24 dB too weak"),
            (
                "other-line-level",
                WORTH_KNOWING,
                socket_set(plan, "Bittern", "out", level="line -10"),
                "11.8 dB quieter",
            ),
            ("no-headroom", RISKY, loud, "Withy arrives at line in 4 with 3 dB of headroom"),
            ("unbalanced-run-long", WORTH_KNOWING, long, "9 m from Bittern out"),
            ("host-before-boxes", RISKY, started, "before Heron 61, Causeway and Quayside 18"),
            ("settings-not-made", WORTH_KNOWING, begun, "3 settings of Bittern are open"),
        ]

    def played_back(self, plan):
        """Bittern's thru back into the interface, on a port that is played from."""
        return socket_set(plug(plan, "Bittern", "thru", "Junction 6", "in 1"), "Junction 6", "in 1", duty="played from")

    def twice(self, plan):
        """A splitter whose two outs reach one box: straight by the merger's first input, and by Sedge's thru."""
        plan = add_boxes(unplug(plan, "Sedge", "MIDI in"), ("thru-splitter", "Groyne"), ("merger", "Weir"))
        for ends in (
            ("Junction 6", "out 2", "Groyne", "MIDI in"),
            ("Groyne", "thru 1", "Sedge", "MIDI in"),
            ("Groyne", "thru 2", "Weir", "in 2"),
        ):
            plan = plug(plan, *ends)
        plan = straight(plan, "Sedge", "thru", "Weir", "in 1")
        plan = plug(plan, "Weir", "out", "Bittern", "MIDI in")
        return plan

    def crowd(self, plan):
        """Reedbed's sixteen parts behind Sedge's two."""
        return straight(unplug(plan, "Reedbed", "MIDI in"), "Sedge", "thru", "Reedbed", "MIDI in")

    def defined(self, plan, box, send):
        one = replace(
            plan.instruments[2], uid="d", name=box, box=box_named(plan, box).uid, send=uid_of(plan, box, send)
        )
        return replace(plan, instruments=(*plan.instruments, one))

    def test_each_rule_on_a_rig_that_breaks_it(self):
        sound = whole_demo()
        for rule, severity, faulty, words in self.cases():
            with self.subTest(rule):
                self.assertEqual(found(sound, rule), [], "quiet on the sound rig")
                self.assertTrue(found(faulty, rule), [f.title for f in check(faulty)])
                first = found(faulty, rule)[0]
                self.assertEqual(first.severity, severity)
                self.assertIn(words, f"{first.title} {first.message}")
                self.assertTrue(first.remedy.endswith("."))

    def test_every_remedy_in_one_move_makes_its_finding_go(self):
        plans = [faulty for _, _, faulty, _ in self.cases()]
        small = small_room()
        plans += [small_room(whole=False), change(small, "Bittern", send=""), change(small, "Bittern", returns=())]
        plans += [change(small, "Bittern", channel=1, home_trim_db=20.0), unplug(small, "Sedge", "L")]
        plans += [unplug(small, "Quayside 18", "USB"), plug(small, "Alder", "kick", "Quayside 18", "line in 7")]
        plans += [change(small, "Alder kit", returns=(uid_of(small, "Quayside 18", "line in 5"),))]
        tried: set[str] = set()
        for plan in plans:
            for finding in check(plan):
                if finding.fix and finding.rule not in tried:
                    with self.subTest(finding.rule):
                        tried.add(finding.rule)
                        after = finding.fix.apply(plan)
                        self.assertNotEqual(after, plan)
                        self.assertNotIn(finding.cause, [one.cause for one in check(after)])
        self.assertGreaterEqual(len(tried), 24, sorted({name_of(rule) for rule in RULES} - tried))

    def test_a_filter_that_lets_nothing_round_is_no_loop(self):
        plan = plug(add_boxes(whole_demo(), ("midi-router", "Locks")), "Locks", "out 1", "Locks", "in 1")
        once = route(plan, "Locks", "in 1", "out 1", channels=(1,), remap=((1, 2),), clock=False)
        self.assertEqual(found(once, "midi-loop"), [])
        ticking = route(plan, "Locks", "in 1", "out 1", channels=(1,), remap=((1, 2),))
        self.assertEqual(len(found(ticking, "midi-loop")), 1, "the clock still runs round")

    def test_local_control_that_cannot_be_switched_off_turns_the_echo_off(self):
        keys = next(faulty for rule, _, faulty, _ in self.cases() if rule == "local-and-echo")
        fixed = box_set(keys, "Curlew", local="always on")
        (finding,) = found(fixed, "local-and-echo")
        self.assertFalse(finding.fix.apply(fixed).rig.echo)
        self.assertEqual(found(box_set(keys, "Curlew", local="off"), "local-and-echo"), [])

    def test_an_active_cable_goes_further(self):
        plan = whole_demo()
        usb = plan.rig.cable_at(uid_of(plan, "Heron 61", "USB")).uid
        far = set_cable(plan, usb, length_m=12.0)
        (finding,) = found(far, "usb-run-too-long")
        self.assertEqual(found(finding.fix.apply(far), "usb-run-too-long"), [])
        self.assertTrue(found(set_cable(far, usb, length_m=30.0, kind="usb-active"), "usb-run-too-long"))


class WholeTripTest(SimpleTestCase):
    """Rules follow the whole trip, with filters, renamed channels and loops, and not the first cable alone."""

    def behind_a_filter(self, **fields) -> Plan:
        """Bittern behind a router that lets its own channel pass alone, on the wire that carries Sedge's notes too."""
        plan = plug(
            add_boxes(unplug(whole_demo(), "Sedge", "thru"), ("midi-router", "Locks")), "Sedge", "thru", "Locks", "in 1"
        )
        return route(plug(plan, "Locks", "out 1", "Bittern", "MIDI in"), "Locks", "in 1", "out 1", **fields)

    def test_a_box_set_to_another_channel_is_silent_and_can_be_mended_here_or_there(self):
        plan = box_set(whole_demo(), "Bittern", receives=(7,))
        (finding,) = found(plan, "channel-not-received")
        self.assertEqual(finding.severity, WRONG)
        self.assertEqual(finding.title, "Bittern arrives on channel 3, and Bittern listens on channel 7")
        self.assertIn("set Bittern to channel 3, here and on the box", finding.remedy)
        self.assertEqual(instrument_named(finding.fix.apply(plan), "Bittern").channel, 7)
        full = replace(
            plan, instruments=(*plan.instruments, replace(plan.instruments[0], uid="x", name="Other", channel=7))
        )
        (finding,) = found(full, "channel-not-received")
        self.assertEqual(box_named(finding.fix.apply(full), "Bittern").setup.receives, (3,))
        self.assertEqual(found(box_set(plan, "Bittern", omni=True), "channel-not-received"), [])

    def test_what_counts_is_the_channel_on_which_it_arrives(self):
        renamed = self.behind_a_filter(channels=(3,), remap=((3, 9),))
        self.assertEqual(found(box_set(renamed, "Bittern", receives=(9,)), "channel-not-received"), [])
        (finding,) = found(box_set(renamed, "Bittern", receives=(3,)), "channel-not-received")
        self.assertIn("arrives on channel 9", finding.title)

    def test_a_part_counts_as_much_as_the_first_one(self):
        plan = whole_demo()
        part = Part(uid="p", name="bells", channel=5)
        plan = set_instrument(plan, instrument_named(plan, "Sedge upper").uid, parts=(part,))
        (finding,) = found(box_set(plan, "Sedge", receives=(1, 2)), "channel-not-received")
        self.assertIn("Sedge upper, bells arrives on channel 5", finding.title)

    def test_omni_behind_a_filter_plays_nobody_else(self):
        for channels, expected in (((3,), 0), ((1, 3), 1)):
            plan = box_set(self.behind_a_filter(channels=channels), "Bittern", omni=True)
            self.assertEqual(len(found(plan, "omni-on-shared-socket")), expected)

    def test_a_measuring_loop_is_no_feedback_and_a_circle_through_boxes_is(self):
        plan = unplug(whole_demo(), "Eelgrass", "out")
        ends = [uid_of(plan, "Quayside 18", label) for label in ("line out 5", "mic 2")]
        plan = plug(plan, "Quayside 18", "line out 5", "Quayside 18", "mic 2")
        plan = replace(plan, loops=(Loop(uid="l", name="straight", box="", sends=ends[:1], returns=ends[1:]),))
        told = [f for f in check(plan) if f.socket in ends or set(f.facts) & set(ends)]
        self.assertEqual([f.rule for f in told if f.severity != WORTH_KNOWING or f.rule == "return-idle"], [])
        circle = add_boxes(whole_demo(), ("effect", "Wier"), ("mixer", "Slip"))
        circle = plug(plug(circle, "Wier", "out", "Slip", "channel 2"), "Slip", "main L", "Wier", "in")
        (finding,) = found(circle, "audio-into-itself")
        self.assertRegex(finding.message, "Wier → Slip → Wier|Slip → Wier → Slip")

    def test_a_separate_out_may_come_home_through_another_box(self):
        plan = add_boxes(unplug(whole_demo(), "Alder", "kick"), ("mixer", "Slip"))
        plan = plug(plug(plan, "Alder", "kick", "Slip", "channel 1"), "Slip", "main L", "Quayside 18", "mic 1")
        self.assertEqual(found(plan, "separate-out-unheard"), [])
        (finding,) = found(unplug(plan, "Slip", "main L"), "separate-out-unheard")
        self.assertIn("what goes into Slip channel 1", finding.message)

    def test_a_pair_through_a_mixer_is_a_pair(self):
        plan = add_boxes(unplug(unplug(whole_demo(), "Sedge", "L"), "Sedge", "R"), ("mixer", "Slip"))
        for out, into in (("L", "channel 1"), ("R", "channel 2")):
            plan = plug(plan, "Sedge", out, "Slip", into)
        for side, number in (("L", 1), ("R", 2)):
            plan = plug(plan, "Slip", f"main {side}", "Quayside 18", f"line in {number}")
        self.assertEqual(found(plan, "not-a-pair") + found(plan, "left-and-right-swapped"), [])

    def test_headroom_is_told_of_a_direct_cable(self):
        (finding,) = found(socket_set(whole_demo(), "Quayside 18", "line in 3", max_dbu=8.0), "no-headroom")
        self.assertEqual(finding.title, "Bittern arrives at line in 3 with 4 dB of headroom")

    def test_two_leaders_are_the_boxes_and_not_the_interface(self):
        plan = add_boxes(whole_demo(), ("step-sequencer", "Steps"), ("step-sequencer", "Paces"))
        for name, port in (("Steps", "in 1"), ("Paces", "in 2")):
            plan = box_set(plug(plan, name, "MIDI out", "Junction 6", port), name, clock="internal")
            plan = socket_set(plan, "Junction 6", port, duty="clock from")
        (finding,) = found(plan, "two-leaders")
        self.assertEqual(finding.title, "Steps and Paces all lead")

    def test_two_ways_are_spelled_so_that_they_differ(self):
        plan = add_boxes(unplug(whole_demo(), "Bittern", "MIDI in"), ("thru-splitter", "Groyne"), ("merger", "Weir"))
        plan = plug(plan, "Sedge", "thru", "Groyne", "MIDI in")
        for number in (1, 2):
            plan = plug(plan, "Groyne", f"thru {number}", "Weir", f"in {number}")
        (finding,) = found(plug(plan, "Weir", "out", "Bittern", "MIDI in"), "reached-twice")
        self.assertIn("Groyne thru 1 → Weir in 1", finding.message)
        self.assertIn("Groyne thru 2 → Weir in 2", finding.message)

    def test_what_is_played_is_held_against_who_listens(self):
        plan = whole_demo()
        keys = uid_of(plan, "Heron 61", "keys")
        bittern = instrument_named(plan, "Bittern").uid
        self.assertEqual(found(set_instrument(plan, bittern, standing=((keys, 1),)), "standing-line-silent"), [])
        waiting = set_instrument(plan, bittern, standing=((keys, 6),))
        (finding,) = found(waiting, "standing-line-silent")
        self.assertEqual(finding.title, "Bittern waits for channel 6, and Heron 61 sends on 1")
        self.assertEqual(finding.fix.apply(waiting).instrument(bittern).standing, ((keys, 1),))
        direct = straight(plan, "Sedge", "thru", "Reedbed", "MIDI in")
        direct = plug(unplug(direct, "Bittern", "MIDI in"), "Heron 61", "MIDI out", "Bittern", "MIDI in")
        direct = box_set(direct, "Bittern", receives=(3,))
        (finding,) = found(direct, "plays-nobody")
        self.assertEqual(finding.title, "Heron 61 plays on channel 1, and nothing behind MIDI out listens there")
        self.assertEqual(found(box_set(direct, "Heron 61", transmits=(3,)), "plays-nobody"), [])


class MeantTest(SimpleTestCase):
    def test_it_is_set_aside_survives_a_new_name_and_returns_with_another_cause(self):
        plan = change(small_room(), "Bittern", channel=1)
        (finding,) = found(plan, "channel-shared")
        meant = mark_meant(plan, finding, "a layer")
        standing, aside = check_all(meant)
        self.assertNotIn("channel-shared", [one.rule for one in standing])
        self.assertEqual([(one.rule, reason) for one, reason in aside], [("channel-shared", "a layer")])
        renamed = set_box(
            set_instrument(meant, plan.instruments[0].uid, name="Sedge bells"),
            box_named(meant, "Bittern").uid,
            name="Bass",
        )
        self.assertEqual(found(renamed, "channel-shared"), [])
        moved = change(change(meant, "Bittern", channel=2), "Sedge upper", channel=3)
        self.assertEqual(len(found(moved, "channel-shared")), 1, "another channel, other sharers")
        self.assertEqual(check(no_longer_meant(meant, finding.cause)), check(plan))

    def test_a_severer_cause_is_not_covered(self):
        plan = unplug(small_room(), "Sedge", "L")
        (finding,) = found(plan, "right-without-left")
        meant = mark_meant(plan, finding, "mono today")
        self.assertEqual(found(meant, "right-without-left"), [])
        other = with_cable(
            unplug(meant, "Alder", "L"), uid_of(plan, "Alder", "L"), uid_of(plan, "Quayside 18", "line in 8")
        )
        other = unplug(other, "Alder", "L")
        self.assertEqual([f.about for f in found(other, "right-without-left")], [box_named(plan, "Alder").uid])
