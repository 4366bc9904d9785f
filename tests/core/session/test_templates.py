"""Templates: what is laid on another desk or track by names, what is left out and told, and the round trip as JSON."""

from dataclasses import replace

from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hypotaxis.core.drawing.template import HEIGHT, WIDTH, picture_of
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.grid.values import Grid, Pattern, Row, Step, Voicing
from hypotaxis.core.patches.general_midi import DRUMS, FIRST_DRUM
from hypotaxis.core.plan import Instrument, Part, Return, Voice
from hypotaxis.core.session.starters import STARTERS
from hypotaxis.core.session.templates import (
    CLASSES,
    GRID,
    INSTRUMENT,
    PASS_PLAN,
    GridTemplate,
    InstrumentTemplate,
    PlanTemplate,
    SeatName,
    grid_for,
    instrument_like,
    passes_for,
    seats_on,
)
from tests.rooms import instrument_named, small_room

ROOM = small_room()
KIT = Instrument(
    uid="k",
    name="Kit",
    box="elsewhere",
    send="s",
    channel=7,
    returns=("x",),
    given_ms=9.0,
    gap_ms=35.0,
    parts=(Part(uid="p", name="Side", channel=11, send="s2"),),
    further=(Return(uid="f", name="Kick", inputs=("y",)), Return(uid="g", name="Cowbell", inputs=("z",))),
    voices=(Voice(note=36, name="kick", home="f"), Voice(note=56, name="bell", home="g")),
    standing=(("q", 1),),
)


class InstrumentTest(SimpleTestCase):
    def test_sockets_are_this_desks_and_the_rest_is_the_templates(self):
        proposed = Instrument(
            uid="n", name="Alder", box="b", send="out", channel=10, returns=("l", "r"),
            further=(Return(uid="here", name="kick", inputs=("mic",)),),
        )  # fmt: skip
        made = instrument_like(InstrumentTemplate("drum-machine", KIT), proposed, ["Kit"])
        self.assertEqual((made.uid, made.name, made.box, made.send, made.channel), ("n", "Kit 2", "b", "out", 10))
        self.assertEqual((made.returns, made.gap_ms, made.given_ms, made.standing), (("l", "r"), 35.0, None, ()))
        self.assertEqual([(one.name, one.inputs) for one in made.further], [("Kick", ("mic",)), ("Cowbell", ())])
        self.assertEqual([voice.home for voice in made.voices], [one.uid for one in made.further])
        self.assertEqual([(one.name, one.channel, one.send) for one in made.parts], [("Side", 11, "")])
        self.assertNotIn(made.parts[0].uid, ("p", ""))

    def test_seats_are_found_by_uid_then_by_name(self):
        bittern, kit = instrument_named(ROOM, "Bittern"), instrument_named(ROOM, "Alder kit")
        names = (SeatName(bittern.uid, "", "Other"), SeatName("gone", "", "alder KIT"), SeatName("none", "", "Nobody"))
        self.assertEqual(seats_on(ROOM, names), {(bittern.uid, ""): (bittern.uid, ""), ("gone", ""): (kit.uid, "")})


class GridTest(SimpleTestCase):
    def test_voices_are_found_by_their_names_in_all_patterns_alike(self):
        first = Pattern("A", (Row(36, steps=(Step(0),)), Row(42, steps=(Step(2),)), Row(99, steps=(Step(1),))))
        grid = Grid((first, Pattern("B", (Row(42, steps=(Step(3),)),))), ("A", "B"), (Voicing(42, swing=58.0),))
        template = GridTemplate(grid, ((36, "Kick"), (42, "closed hat"), (99, "gong")))
        laid = grid_for(template, {1: "kick", 2: "Closed Hat", 3: "open hat"}, 5)
        self.assertEqual([[row.note for row in one.rows] for one in laid.grid.patterns], [[1, 2], [2]])
        self.assertEqual(laid.grid.voices, (Voicing(2, swing=58.0),))
        self.assertEqual((laid.grid.order, laid.lost), (("A", "B", "A", "B", "A"), ("gong",)))

    def test_what_ships_finds_all_its_voices_in_general_midis_names(self):
        mine = dict(enumerate(DRUMS, start=FIRST_DRUM))
        for name, template in STARTERS[GRID].items():
            with self.subTest(name):
                laid = grid_for(template, mine, 2)
                self.assertEqual((laid.lost, laid.grid.order), ((), ("A", "A")))
                notes = [{row.note for row in one.patterns[0].rows} for one in (laid.grid, template.grid)]
                self.assertEqual(*notes)

    @settings(max_examples=40, deadline=None)
    @given(st.lists(st.integers(0, 15), max_size=16, unique=True), st.integers(1, 127))
    def test_a_grid_comes_back_and_its_picture_stays_within(self, places, velocity):
        grid = Grid((Pattern("A", (Row(36, steps=tuple(Step(place, velocity) for place in sorted(places))),)),))
        template = GridTemplate(grid, ((36, "kick"),), (("kick", "Kick"),))
        self.assertEqual(from_json(CLASSES[GRID], to_json(template)), template)
        self.inside(template)

    def test_every_kind_comes_back_and_draws(self):
        plan = PlanTemplate((("Kit", "Bass"), ("Kick",)), 4.0, True)
        for kind, value in ((INSTRUMENT, InstrumentTemplate("drum-machine", KIT)), (PASS_PLAN, plan)):
            self.assertEqual(from_json(CLASSES[kind], to_json(value)), value)
            self.assertTrue(self.inside(value))
        self.inside(replace(plan, passes=()))

    def inside(self, template) -> int:
        blocks = picture_of(template)
        for one in blocks:
            self.assertTrue(
                one.x >= 0 and one.x + one.w <= WIDTH + 0.02 and one.y >= 0 and one.y + one.h <= HEIGHT + 0.02
            )
        return len(blocks)


class PlanTest(SimpleTestCase):
    def test_tracks_are_found_by_name_and_empty_passes_are_left_out(self):
        template = PlanTemplate((("Kit", "Bass"), ("Lost",), ("kick",)), 3.0, False)
        laid = passes_for(template, {"kit": "1", "Kick": "2", "BASS": "3"})
        self.assertEqual((laid.passes, laid.lost), ((("1", "3"), ("2",)), ("Lost",)))
