"""Patterns of a track: programmed, looped on the box, recorded, printed, taken back."""

from unittest import mock

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.smf import read_smf
from hypotaxis.core.grid.values import Grid, Pattern, Row, Step, Voicing
from hypotaxis.core.session.arrange import empty
from hypotaxis.core.session.straighten import Straightening
from hypotaxis.records import journal
from hypotaxis.records.models import Job, Session, Take, Track
from hypotaxis.records.plan import notes_of, part_of
from hypotaxis.steps.session.services import arranging, grids, house, part_loop, recording
from hypotaxis.steps.session.services.grooves import with_groove
from tests.web.base import DemoTest

KICK, SNARE, HAT = 36, 38, 42


class GridTest(DemoTest):
    def setUp(self):
        super().setUp()
        piece = empty(bpm=96, beats=4, unit=4, bars=4)
        self.song = arranging.new_session(self.rig, self.plan, piece, name="Programmed", tracks=True)
        self.client.cookies["hypotaxis-session"] = str(self.song.uid)

    @property
    def kit(self) -> Track:
        return Track.objects.select_related("session").get(session=self.song, name="Alder kit")

    @property
    def grid(self) -> Grid:
        return grids.grid_of(self.kit)

    def send(self, to: str, query: str = "", **fields):
        page = reverse("session:grid", args=[self.kit.uid])
        return self.client.post(f"{page}{query}", {"to": to, **fields}, follow=True)

    def told(self, answer) -> str:
        return " ".join(str(one) for one in answer.context["messages"])

    def program(self, *rows: Row, **how) -> None:
        grids.change_grid(self.kit, "pattern", lambda _: Grid((Pattern("A", rows),), ("A",) * 4, **how))

    def undo(self) -> str:
        self.song.refresh_from_db()
        return journal.undo(self.rig, self.song)

    def test_a_cell_is_set_chosen_and_taken_away_and_each_is_one_step_back(self):
        self.send("press", note=HAT, place=2)
        self.assertEqual(self.grid.pattern("A").row(HAT).steps, (Step(2),))
        answer = self.send("press", note=KICK, place=0)
        answer = self.send("press", note=HAT, place=2)
        self.assertContains(answer, "pattern A, step 3")
        self.send("step", f"?note={HAT}&step=3", place=3, velocity=58, chance=40, length="0.25", repeats=3)
        self.assertEqual(self.grid.pattern("A").row(HAT).steps, (Step(2, 58, 0.25, 40, 3),))
        self.send("velocity", note=HAT, place=2, velocity=90)
        self.send("press", f"?note={HAT}&step=3", note=HAT, place=2)
        self.assertEqual(self.grid.pattern("A").row(HAT).steps, ())
        self.assertEqual(self.undo(), "Closed hat, step 3 of pattern A")
        self.assertEqual(self.grid.pattern("A").row(HAT).steps, (Step(2, 90, 0.25, 40, 3),))
        while self.kit.grid:
            self.undo()
        self.assertEqual(len(notes_of(self.kit)), 0)

    def test_a_row_is_edited_in_place_and_refused_with_its_range(self):
        self.send("row", note=HAT, a_quarter="4", length="6", swing="58", shift_ms="-2", level_db="-3")
        self.assertEqual(self.grid.voice(HAT), Voicing(HAT, swing=58, shift_ms=-2, level_db=-3))
        self.assertEqual(self.grid.pattern("A").row(HAT).length, 6)
        answer = self.send("row", note=HAT, swing="90")
        self.assertIn("Swing: Ensure this value is less than or equal to 75", self.told(answer))
        self.send("mute", note=HAT)
        self.assertTrue(self.grid.voice(HAT).mute)

    def test_patterns_are_laid_along_the_bars(self):
        self.send("press", note=KICK, place=0)
        self.assertEqual(self.grid.order, ("A",) * 4, "a new track without notes plays it everywhere")
        self.send("another", of="copy")
        self.send("lay", "?pattern=B", lay=2)
        self.send("lay", "?pattern=A", lay=3)
        self.assertEqual(self.grid.order, ("A", "B", "", "A"))
        self.send("order", order="A-")
        self.assertEqual(self.grid.order, ("A", "", "A"))
        self.assertContains(self.send("order", order="AX"), "“X”, the 2. of the order, is no pattern")
        self.send("without", "?pattern=A")
        self.assertEqual((self.grid.order, [one.name for one in self.grid.patterns]), ((), ["B"]))
        self.assertIn("at least one pattern", self.told(self.send("without", "?pattern=B")))

    def test_a_track_with_notes_is_not_doubled_by_a_new_pattern(self):
        self.client.cookies["hypotaxis-session"] = str(self.track_of_the_demo().session_id)
        kit = self.track_of_the_demo()
        before = len(notes_of(kit))
        self.client.post(reverse("session:grid", args=[kit.uid]), {"to": "press", "note": KICK, "place": 0})
        self.assertEqual(len(notes_of(self.track_of_the_demo())), before)

    def track_of_the_demo(self) -> Track:
        return Track.objects.get(session__name="Tide Tables", name="Alder kit")

    def test_print_gives_what_sounded_and_switches_off_and_undo_brings_both_back(self):
        self.program(Row(HAT, steps=(Step(0), Step(1, chance=50))), voices=(Voicing(KICK, mute=True),))
        sounded = notes_of(self.kit).tolist()
        self.assertIn(f"{len(sounded)} notes of Alder kit printed", self.told(self.send("print")))
        self.assertEqual((notes_of(self.kit).tolist(), self.grid.on), (sounded, False))
        self.assertEqual(part_of(self.kit).notes.tolist(), sounded)
        self.assertIn("nothing to print", self.told(self.send("print")))
        self.undo()
        self.assertEqual((len(part_of(self.kit).notes), self.grid.on), (0, True))
        self.send("switch", on="0")
        self.assertEqual(len(notes_of(self.kit)), 0)

    def test_it_is_recorded_where_it_swings(self):
        hats = Row(HAT, steps=tuple(Step(place, velocity=110) for place in range(0, 16)))
        self.program(hats, voices=(Voicing(HAT, swing=58),))
        ticks = notes_of(self.kit)["tick"]
        self.song.refresh_from_db()
        at_ms = self.song.tempo_map.us_at(ticks) / 1000
        # numbers.md: at 96 BPM an eighth is 312.5 ms, and 58 % of it 181.25 ms.
        straight = np.arange(64) * 156.25
        np.testing.assert_allclose(at_ms - straight, [0.0, 25.0] * 32, atol=0.1)
        Track.objects.filter(uid=self.kit.uid).update(armed=True)
        bars = {"first_bar": 1, "last_bar": 4}
        recording.start_pass(self.song, self.plan, **bars, fast=True, place_takes=True)
        take = Take.objects.filter(track=self.kit, return_uid="").get()
        self.assertGreaterEqual(take.measured.used, 56)
        self.assertLess(take.measured.jitter_ms, 1.5, "against straight notes it would be 12.5")
        self.assertIsNotNone(take.placement)
        # The take's own groove: 25 ms of a sixteenth's 156.25 on every second one.
        followed = with_groove(self.kit, Straightening(), f"take/{take.uid}")
        self.assertLess(np.abs(np.array(followed.groove) - [0.0, 0.16] * 8).max(), 0.02)

    def test_a_loop_plays_on_the_box_and_a_change_is_heard(self):
        self.program(Row(SNARE, steps=(Step(0),)))
        sent: list[bytes] = []
        looks = iter(range(10_000))
        real = part_loop.Loop.messages

        def messages(loop, until_ns):
            found = real(loop, until_ns)
            sent.extend(one.data for one in found)
            return found

        def wanted() -> bool:
            number = next(looks)
            if number == 10:
                self.program(Row(HAT, steps=(Step(0),)))
            return number > 5_000 or any(data[0] & 0xF0 == 0x90 and data[1] == HAT for data in sent)

        with (
            mock.patch.object(part_loop, "is_wanted", wanted),
            mock.patch.object(part_loop.Loop, "messages", messages),
            mock.patch("hypotaxis.records.jobs.Reporter.due", return_value=True),
        ):
            job = part_loop.start_loop(self.kit, self.plan, part_loop.LoopWish("A"))
        job.refresh_from_db()
        self.assertEqual((job.state, job.message), (Job.DONE, ""))
        notes = [data[1] for data in sent if data[0] & 0xF0 == 0x90]
        self.assertEqual(notes[0], SNARE)
        self.assertEqual(notes[-1], HAT)
        self.assertEqual([one.name for one in part_loop.heard_of(job).levels], ["line in 7", "line in 8"])
        for page in ("grid", "notes"):
            answer = self.client.get(reverse(f"session:{page}-looping", args=[self.kit.uid, job.uid]))
            self.assertContains(answer, "1.4.4")
            self.assertEqual(answer["X-Finished"], "1")
        Track.objects.filter(uid=self.kit.uid).update(instrument_uid="")
        with self.assertRaisesRegex(CannotSchedule, "has no box that its notes go to"):
            part_loop.start_loop(self.kit, self.plan, part_loop.LoopWish("A"))

    def test_rows_are_grown_and_a_pattern_is_borrowed_by_names(self):
        answer = self.send("grow", density=40, syncopation=10, seed=3, voices=[KICK, HAT])
        self.assertIn("2 rows of pattern A grown from seed 3", self.told(answer))
        self.assertEqual(len(self.grid.pattern("A").row(KICK).steps), 6)
        self.assertContains(self.send("grow", density=40, syncopation=10, seed=3), "Choose a voice at least.")
        other = self.track_of_the_demo()
        grids.change_grid(other, "p", lambda grid: grid.with_pattern(Pattern("A", (Row(SNARE, steps=(Step(4),)),))))
        answer = self.send("borrow", pattern=f"{other.uid}/A")
        self.assertIn("Pattern B is A of Alder kit.", self.told(answer))
        self.assertEqual(self.grid.pattern("B").row(SNARE).steps, (Step(4),))
        lost = next(row for row in self.song.tracks.all() if row.name == "Bittern")
        with self.assertRaisesRegex(Exception, "None of its voices has a namesake on Bittern: Snare."):
            grids.borrow(lost, self.plan, other, "A")

    def test_it_leaves_and_comes_back_as_a_table_and_as_notes(self):
        self.program(Row(HAT, steps=(Step(1, 70, 0.3, 50, 2),)), voices=(Voicing(HAT, 61.5, -3.25),))
        before = self.grid
        table = self.client.get(reverse("session:grid-table", args=[self.kit.uid])).content
        self.program()
        answer = self.send("table", table=SimpleUploadedFile("grid.csv", table))
        self.assertIn("1 pattern read", self.told(answer))
        self.assertEqual(self.grid, before)
        answer = self.send("table", table=SimpleUploadedFile("grid.csv", b"order,A\nvoice,x"))
        self.assertIn("Line 2", self.told(answer))
        self.assertEqual(self.grid, before)
        file = self.client.get(reverse("session:part-file", args=[self.kit.uid])).content
        self.assertEqual(read_smf(file).parts[0].notes.tolist(), notes_of(self.kit).tolist())

    def test_a_copied_session_keeps_its_patterns_and_sections(self):
        self.program(Row(HAT, steps=(Step(1),)))
        self.song.refresh_from_db()
        Session.objects.filter(uid=self.song.uid).update(sections=[[0, "Verse"]])
        copy = house.copy_session(Session.objects.get(uid=self.song.uid))
        self.assertEqual(copy.sections, [[0, "Verse"]])
        self.assertEqual(notes_of(copy.tracks.get(name="Alder kit")).tolist(), notes_of(self.kit).tolist())

    def test_hostile_fields_change_nothing(self):
        page = reverse("session:grid", args=[self.kit.uid])
        for fields in (
            {"to": "press", "note": "x", "place": "9e99"},
            {"to": "lay", "lay": "-5"},
            {"to": "velocity", "note": "300", "place": "-1", "velocity": "1e9"},
            {"to": "nothing"},
            {"to": "step", "place": "1"},
            {"to": "table"},
        ):
            with self.subTest(fields):
                self.assertLess(self.client.post(f"{page}?pattern=%00&bar=1e9&note=-3", fields).status_code, 400)
        self.assertEqual(self.client.get(f"{page}?bar=99999&step=999&note=127&pattern=ZZ").status_code, 200)
