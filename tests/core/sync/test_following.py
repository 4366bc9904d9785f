"""What boxes make of the clock they hear, stretch by stretch, and how it is drawn and told."""

from dataclasses import replace
from fractions import Fraction

from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as some

from hypotaxis.core.drawing.lattice import MOST_STRETCHES, lattice, row
from hypotaxis.core.findings.rules import check
from hypotaxis.core.rig.change import add_box, set_box, set_rig, set_sockets, set_up, with_cable
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.sync.course import course_of_bars
from hypotaxis.core.sync.following import clocked, cures, standing_clock, walk
from hypotaxis.core.sync.misstep import missteps
from hypotaxis.core.sync.values import Following, Sending
from hypotaxis.demo.compose import in_step, saltmarsh_room
from tests.rooms import box_named, uid_of

FOUR_FOUR = TempoMap(480, ((0, 500_000),))


def pattern(bars: Fraction | int, **fields) -> Following:
    return Following(plays="pattern", length_ticks=int(bars * 96), **fields)


def ahead(loop: tuple[int, int], following: Following, wrap: str, times: int = 5, **given) -> list[float]:
    """Bars ahead after each wrap, in 4/4."""
    course = course_of_bars(given.pop("tempo", FOUR_FOUR), first_bar=loop[0], bars=loop[1], times=times, begin_bar=1)
    return [float(ticks / 96) for ticks in walk(course, Sending(wrap=wrap, **given), following)[1:]]


class WalkTest(SimpleTestCase):
    @given(
        some.integers(1, 6),
        some.integers(1, 9),
        some.integers(1, 8),
        some.sampled_from(("nothing", "start", "position")),
    )
    def test_bar_by_bar_it_is_what_the_fractions_say(self, first, length, bars, wrap):
        wanted = missteps(loop_from=first, loop_bars=length, pattern_bars=bars, times=4, wrap=wrap)
        self.assertEqual(ahead((first, length), pattern(bars), wrap), [float(one.bars) for one in wanted])

    @given(some.integers(1, 6), some.integers(1, 9), some.integers(1, 8), some.integers(2, 9))
    def test_what_cures_it_leaves_it_in_step(self, first, length, bars, times):
        course = course_of_bars(FOUR_FOUR, first_bar=first, bars=length, times=times, begin_bar=1)
        known = {"loop_from": first, "loop_bars": length, "pattern_bars": bars, "times": times - 1}
        found = cures(course, Sending(), pattern(bars))
        self.assertIn("position", found)
        for wrap in ("nothing", "start", "position"):
            kept = all(one.in_step for one in missteps(**known, wrap=wrap))
            self.assertEqual(kept, wrap in found, wrap)

    def test_a_box_that_ignores_what_it_is_sent_goes_on(self):
        deaf = pattern(4, obeys=("start", "continue", "stop"))
        self.assertEqual(ahead((1, 6), deaf, "position"), [2, 0, 2, 0])
        self.assertEqual(ahead((1, 6), pattern(4, restarts=False), "start"), [2, 0, 2, 0])
        self.assertEqual(ahead((1, 6), pattern(4), "start"), [0, 0, 0, 0])

    def test_half_and_double_change_how_long_a_pattern_lasts(self):
        # Eight bars of the host are four of a box that counts half: its pattern of four lasts eight.
        self.assertEqual(ahead((1, 4), pattern(4, pace="half"), "nothing"), [4, 0, 4, 0])
        self.assertEqual(ahead((1, 1), pattern(4, pace="double"), "nothing"), [1, 0, 1, 0])

    def test_a_loop_that_is_no_whole_number_of_clocks_slips_by_the_clocks_that_were_sent(self):
        # A bar of 5/64 is seven and a half clocks, of which eight are sent.
        tempo = TempoMap(480, ((0, 500_000),), ((0, 5, 64),))
        course = course_of_bars(tempo, first_bar=1, bars=1, times=4)
        self.assertEqual(walk(course, Sending(), pattern(1)), [0, 8, 16, 24])

    def test_begun_elsewhere_without_song_position_it_is_off_from_the_beginning(self):
        course = course_of_bars(FOUR_FOUR, first_bar=3, bars=2, times=2)
        self.assertEqual(walk(course, Sending(position=False), pattern(4)), [192, 0])
        self.assertEqual(walk(course, Sending(), pattern(4))[0], 0)
        self.assertEqual(cures(course, Sending(position=False), pattern(4)), [])
        self.assertEqual(cures(course, Sending(), pattern(4)), ["position"])


class StandingClockTest(SimpleTestCase):
    def test_clock_that_always_runs_goes_on_while_the_song_stands(self):
        plan = in_step(saltmarsh_room())
        self.assertEqual(standing_clock(plan, 625_000, 1.0), [])
        port = uid_of(plan, "Junction 6", "out 5")
        named = {"system_name": "five", "sending": Sending(always=True)}
        sent = standing_clock(set_sockets(plan, {port: named}), 625_000, 1.0)
        # 96 BPM: 38.4 clocks a second, the first at once.
        self.assertEqual((len(sent), sent[-1].time_ns, {one.port for one in sent}), (39, 989_583_333, {"five"}))
        led = set_rig(set_sockets(plan, {port: named}), leader=box_named(plan, "Alder").uid)
        self.assertEqual(standing_clock(led, 625_000, 1.0), [])


class LatticeTest(SimpleTestCase):
    def test_where_they_part_what_is_played_is_dropped_and_the_misstep_stands_there(self):
        course = course_of_bars(FOUR_FOUR, first_bar=3, bars=6, times=3, begin_bar=1)
        head, scale = lattice(course, 70)
        self.assertEqual((head.width, head.wraps_x, head.left_out), ((8 + 6 + 6) * 70, (560, 980), 0))
        self.assertEqual([one.label for one in head.brackets[:2]], ["run in", "loop, first time"])
        three = pattern(3)
        drawn = row(scale, three, walk(course, Sending(wrap="start"), three), "told: start")
        self.assertEqual([cell.label for cell in drawn.cells], ["1", "2", "3", "1", "2", "3", "1", "2"])
        self.assertEqual([cell.label for cell in drawn.ghosts[:3]], ["3", "1", "2"])
        self.assertEqual([cell.label for cell in drawn.dropped[:3]], ["1", "2", "3"])
        self.assertEqual(
            [(arrow.x, arrow.from_x, arrow.label) for arrow in drawn.arrows[:1]], [(560, 630, "1 bar 0/16 early")]
        )
        calm = row(scale, three, walk(course, Sending(), three))
        self.assertEqual((calm.dropped, calm.ghosts, calm.wraps), ((), (), ()))

    def test_many_rounds_and_small_bars_stay_within_bounds(self):
        course = course_of_bars(FOUR_FOUR, first_bar=1, bars=1, times=64)
        for zoom in (6, 1920):
            head, scale = lattice(course, zoom)
            self.assertLessEqual(len(scale.shown), MOST_STRETCHES)
            self.assertEqual(head.left_out, 64 - len(scale.shown))
            one = row(scale, Following(plays="LFO or delay", length_ticks=1), [Fraction(0)] * 64)
            self.assertLess(len(one.cells), 5_000)


class FindingsTest(SimpleTestCase):
    def setUp(self):
        self.plan = replace(
            in_step(saltmarsh_room()), song=course_of_bars(FOUR_FOUR, first_bar=3, bars=6, times=4, begin_bar=1)
        )

    def titles(self, plan) -> dict[str, str]:
        return {finding.rule: finding.title for finding in check(plan)}

    def follow(self, name: str, **fields):
        box = box_named(self.plan, name)
        return set_box(self.plan, box.uid, following=replace(box.following, **fields))

    def send(self, out: str, **fields):
        port = uid_of(self.plan, "Junction 6", out)
        sending = replace(self.plan.rig.find(port)[1].sending or Sending(), **fields)
        return set_sockets(self.plan, {port: {"clock": True, "sending": sending}})

    def test_each_rule_on_a_rig_that_breaks_it(self):
        alder = box_named(self.plan, "Alder").uid
        broken = {
            "pattern-parts": self.plan,
            "position-ignored": self.follow("Alder", obeys=("start",)),
            "clock-by-other-socket": self.follow("Alder", by="USB"),
            "leader-receives": set_rig(self.plan, leader=alder),
            "other-time-code": set_box(
                self.send("out 5", time_code="25"), alder, following=Following(plays="pattern", time_code="30")
            ),
            "stands-still": set_up(
                set_box(self.plan, box_named(self.plan, "Eelgrass").uid, following=Following(plays="LFO or delay")),
                box_named(self.plan, "Eelgrass").uid,
                clock="",
            ),
            "length-unknown": self.follow("Alder", length_ticks=None),
        }
        for rule, plan in broken.items():
            with self.subTest(rule=rule):
                found = {finding.rule: finding for finding in check(plan)}
                self.assertIn(rule, found)
                if found[rule].fix:
                    after = [one for one in check(found[rule].fix.apply(plan)) if one.about == found[rule].about]
                    self.assertNotIn(rule, [one.rule for one in after])
        whole = self.send("out 3", wrap="nothing")
        self.assertEqual(broken.keys() & self.titles(whole).keys(), set())

    def test_clock_that_is_sent_anew_again_and_again_wobbles(self):
        (way,) = clocked(self.plan)[box_named(self.plan, "Alder").uid]
        self.assertEqual((way.wires, way.jitter_ms), (1, 0.32))
        plan, source = self.plan, uid_of(self.plan, "Junction 6", "out 1")
        for number in range(3):
            name = f"Weir {number}"
            plan, _ = add_box(plan, shape="merger", name=name)
            plan = with_cable(plan, source, uid_of(plan, name, "in 1"))
            source = uid_of(plan, name, "out")
        plan, _ = add_box(plan, shape="drum-machine", name="Far")
        plan = with_cable(plan, source, uid_of(plan, "Far", "MIDI in"))
        plan = set_sockets(plan, {uid_of(plan, "Junction 6", "out 1"): {"clock": True}})
        self.assertEqual(self.titles(plan)["clock-wobbles"], "The clock of Far may wobble by 1.3 ms")

    def test_a_box_that_gets_clock_by_two_ways_counts_twice_unless_it_says_which_it_takes(self):
        plan, box = add_box(self.plan, shape="desktop-synth", name="Twice")
        usb = next(end.socket.uid for end in ports_of(plan.rig, "out") if end.box.uid == box.uid)
        din = uid_of(plan, "Junction 6", "out 1")
        plan = with_cable(plan, din, uid_of(plan, "Twice", "MIDI in"))
        plan = set_sockets(plan, {uid: {"clock": True} for uid in (usb, din)})
        self.assertEqual(self.titles(plan)["clocked-twice"], "Twice gets clock twice")
        settled = set_box(plan, box.uid, following=Following(plays="pattern", by="DIN"))
        self.assertNotIn("clocked-twice", self.titles(settled))
