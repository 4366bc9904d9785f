"""As few passes as can be: checked against trying every way."""

from itertools import product

from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as some

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.mixing.desk import Mixing
from hypotaxis.core.session.pass_plan import Wanted, fewest_passes, fits, seconds_of, wanted_of, why_apart
from hypotaxis.core.session.passes import ArmedTrack, LedBy, plan_pass
from hypotaxis.demo.compose import saltmarsh_room, tide_tables
from tests.rooms import instrument_named, uid_of


def tracks(*uses: set[str]) -> list[Wanted]:
    return [Wanted(f"t{place}", frozenset(one)) for place, one in enumerate(uses)]


def exhaustive(wanted: list[Wanted]) -> int:
    """The fewest by trying every assignment."""
    for count in range(1, len(wanted) + 1):
        for passes in product(range(count), repeat=len(wanted)):
            pairs = ((a, b) for a in range(len(wanted)) for b in range(a))
            if all(passes[a] != passes[b] or not wanted[a].uses & wanted[b].uses for a, b in pairs):
                return count
    return 0


class FewestTest(SimpleTestCase):
    def test_what_shares_nothing_is_one_pass(self):
        self.assertEqual(fewest_passes(tracks({"1"}, {"2"}, {"3"})).passes, (("t0", "t1", "t2"),))
        self.assertEqual(fewest_passes([]).passes, ())

    def test_parts_of_one_return_need_a_pass_each(self):
        found = fewest_passes(tracks({"1", "2"}, {"3"}, {"1", "2"}, {"5"}, {"5"}))
        self.assertEqual(found.passes, (("t0", "t1", "t3"), ("t2", "t4")))
        self.assertTrue(found.fewest)

    def test_one_channel_is_shared_by_what_calls_the_same_sound(self):
        kit, kick = Wanted("kit", frozenset("1"), ("port", 10)), Wanted("kick", frozenset("2"), ("port", 10))
        self.assertEqual(fewest_passes([kit, kick]).passes, (("kit", "kick"),), "a drum machine's separate outs")
        other = Wanted("other", frozenset("3"), ("port", 10), (b"\xc9\x05",))
        self.assertEqual(fewest_passes([kit, kick, other]).passes, (("kit", "kick"), ("other",)))

    def test_an_odd_ring_needs_one_more_than_any_input_has(self):
        # Five boxes, each shares an input with the next: no input has more than two, and two passes are not enough.
        ring = tracks(*({f"{n}", f"{(n + 1) % 5}"} for n in range(5)))
        self.assertEqual(len(fewest_passes(ring).passes), 3)

    @settings(max_examples=70, deadline=None)
    @given(some.lists(some.sets(some.sampled_from("abcdef"), min_size=1, max_size=3), min_size=1, max_size=7))
    def test_never_more_than_trying_every_way_finds(self, uses):
        wanted = tracks(*uses)
        found = fewest_passes(wanted)
        self.assertEqual(len(found.passes), exhaustive(wanted))
        self.assertEqual(fits(wanted, found.passes), [])
        self.assertEqual(sorted(uid for one in found.passes for uid in one), sorted(one.uid for one in wanted))

    def test_a_hundred_tracks_are_planned_at_once(self):
        wanted = tracks(*({str(n % 9), str(n % 7)} for n in range(100)))
        self.assertGreaterEqual(len(fewest_passes(wanted).passes), 15)


class NeedsTest(SimpleTestCase):
    plan = saltmarsh_room()

    def armed(self, name: str, instrument: str) -> ArmedTrack:
        return ArmedTrack(name, name, instrument_named(self.plan, instrument) if instrument else None)

    def test_who_shares_what_is_said(self):
        upper, lower = self.armed("upper", "Sedge upper"), self.armed("lower", "Sedge lower")
        self.assertEqual(why_apart(self.plan, upper, lower), "upper and lower share line in 1–2.")
        self.assertEqual(why_apart(self.plan, upper, self.armed("bass", "Bittern")), "")
        again = self.armed("again", "Sedge upper")
        self.assertEqual(why_apart(self.plan, upper, again), "upper and again share line in 1–2.")

    def test_what_cannot_be_recorded_is_left_out_with_its_reason(self):
        wanted, left = wanted_of(self.plan, [self.armed("bass", "Bittern"), self.armed("none", "")])
        self.assertEqual([one.uid for one in wanted], ["bass"])
        self.assertEqual([(one.uid, one.why) for one in left], [("none", "It has no instrument.")])

    def test_the_time_of_a_row_of_passes(self):
        # numbers.md: a pass takes the song's time; half a second before, one and a half behind, gaps between.
        self.assertEqual(seconds_of(6, 40.0, 3.0), 6 * 42.0 + 5 * 3.0)
        self.assertEqual(seconds_of(1, 40.0, 3.0), 42.0)


class LedTest(SimpleTestCase):
    def test_what_goes_by_the_session_cannot_be_led(self):
        plan = saltmarsh_room()
        loop = next(one for one in plan.loops if one.box)
        armed = [ArmedTrack("wet", "wet", None, loop=loop, source="dry")]
        how = {"first_bar": 1, "last_bar": 2, "lateness_ms": {}, "led_by": LedBy("Heron 61", "from Heron")}
        with self.assertRaisesRegex(CannotSchedule, "what is sent through an effect, would not be in step"):
            plan_pass(plan, armed, tide_tables().tempo, **how)
        bass = [ArmedTrack("bass", "bass", instrument_named(plan, "Bittern"))]
        with self.assertRaisesRegex(CannotSchedule, "nothing is counted in"):
            plan_pass(plan, bass, tide_tables().tempo, **how, count_in=1)
        # What comes home may be heard meanwhile; takes and click of the session may not.
        outs = tuple(uid_of(plan, "Quayside 18", f"line out {number}") for number in (1, 2))
        heard = plan_pass(
            plan, bass, tide_tables().tempo, **how, mixing=Mixing(outputs=outs, in_passes=True, through=True)
        )
        self.assertEqual((heard.beside.takes, heard.beside.click, len(heard.beside.through)), (False, "off", 2))
        self.assertIsNone(
            plan_pass(plan, bass, tide_tables().tempo, **how, mixing=Mixing(outputs=outs, in_passes=True)).beside
        )
