"""What a page costs does not grow with what is kept: its queries, counted at two sizes; and what is kept for the next
page is never older than its rows."""

import html
import re
import uuid
from collections.abc import Iterator
from dataclasses import replace
from urllib.parse import parse_qs, urljoin, urlsplit

from django.db import connection, reset_queries, transaction
from django.db.models import F
from django.test import Client
from django.test.utils import CaptureQueriesContext
from django.urls import resolve, reverse
from django.utils import timezone

from hypotaxis.core.session.standing import standing
from hypotaxis.records.asked import LISTED
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.models import (
    Box,
    Loop,
    PassPlan,
    Patch,
    PatchList,
    PlannedPass,
    Rig,
    Session,
    Sounding,
    Stamp,
    Take,
    Track,
)
from hypotaxis.records.plan import load_plan, tracks_of
from hypotaxis.records.stamps import SUBJECTS, kept_while, one_look, rows_while, set_triggers, stamps_of
from hypotaxis.records.standing import known_takes, stretches_of
from hypotaxis.steps.session.services import planning
from hypotaxis.steps.timing.services.sounding import others_to_compare
from tests.many import as_large, as_many, half_checked, pages_of, recorded_demo
from tests.rooms import large_room
from tests.web.base import DemoTest

CHANGES = ("insert", "update", "delete")


class QueriesTest(DemoTest):
    def counted(self, rig: Rig, *, linked: bool = False, shown_before: bool = True) -> dict[str, int]:
        """The queries of each page. linked: also of those that pages lead to, one of each kind: an address is a kind
        by its view and by what is asked of it. shown_before: what only its first showing asks does not count."""
        client = Client(headers={"host": "127.0.0.1"})
        client.cookies["hypotaxis-rig"] = str(rig.uid)
        found, waiting = {}, [(name, address) for name, address in pages_of(rig).items()]
        while waiting:
            name, address = waiting.pop(0)
            if name in found:
                continue
            found[name] = 0
            for _ in range(1 + shown_before):
                # As after a change of everything: what is kept from before counts for nothing.
                Stamp.objects.update(value=F("value") + 1)
                # Of thousands only the last are held, and what is not held is not counted.
                reset_queries()
                with CaptureQueriesContext(connection) as queries:
                    answer = client.get(address)
                self.assertIn(answer.status_code, (200, 302), address)
                if answer.streaming or not answer["Content-Type"].startswith("text/html"):
                    break
                found[name] = len(queries)
            if linked and found[name]:
                waiting += self.kinds_of(address, answer.content.decode())
        return found

    def kinds_of(self, page: str, markup: str) -> Iterator[tuple[str, str]]:
        """What a page leads to, with its kind."""
        for link in re.findall(r'(?:href|data-url)="([^"#]+)', markup):
            address = urljoin(page, html.unescape(link))
            asked = urlsplit(address)
            if asked.path.startswith("/") and not asked.path.startswith("/static/"):
                yield f"{resolve(asked.path).view_name} {sorted(parse_qs(asked.query))}", address

    def test_no_page_asks_more_of_a_larger_rig(self):
        session = recorded_demo()
        small, large = (import_rig(large_room(share)) for share in (0.1, 0.3))
        self.assertGreater(large.boxes.count(), 2 * small.boxes.count())
        kept = PatchList.objects.first()
        picked = str(kept.patches.first().uid)
        for rig in (small, large):
            rig.instruments.update(patch_list=str(kept.uid), patch=picked)
            as_large(session, rig)
        self.assertEqual(self.counted(small), self.counted(large))

    def test_no_page_that_can_be_reached_asks_more_of_more(self):
        """Of takes, soundings, passes of a plan, tracks and sessions, some with what is seldom: an unmeasured take that
        may borrow, a line check that goes on."""
        session = recorded_demo()
        session.tracks.update(patch_uid=str(Patch.objects.first().uid))
        half_checked(self.rig)
        row = planning.plan_anew(session, self.plan, first_bar=1, last_bar=1, gap_s=0.0, fast=True)
        planning.start(row)
        self.grow(row, takes=20)
        few, before = self.counted(self.rig, linked=True), self.sizes(row)
        self.grow(row, takes=250)
        for number in range(2):
            for track in session.tracks.filter(order__lt=10, voice_of=None):
                track.pk = track.uid = uuid.uuid4()
                track.order += 10 * (number + 1)
                track.save(force_insert=True)
            Session.objects.create(rig=self.rig, name=f"Another {number}", away=bool(number))
        Session.objects.filter(pk=session.pk).update(created=timezone.now())
        for now, then in zip(self.sizes(row), before, strict=True):
            self.assertGreaterEqual(now, 2 * then)
        many = self.counted(self.rig, linked=True, shown_before=False)
        self.assertGreater(len(few), 60)
        self.assertEqual({name: count for name, count in many.items() if count > few.get(name, count)}, {})

    def grow(self, row: PassPlan, *, takes: int) -> None:
        """So many takes and soundings, and a pass of the plan for each pass."""
        session = row.session
        as_many(session, takes, takes)
        for run in session.passes.all():
            tracks = [str(uid) for uid in run.takes.values_list("track", flat=True)]
            run.planned = PlannedPass.objects.create(plan=row, order=run.number, tracks=tracks)
            run.save()
        row.columns.filter(runs=None).delete()
        self.assertNotIn(planning.WAITS, planning.states_of(row.columns.all()))

    def sizes(self, row: PassPlan) -> tuple[int, ...]:
        return row.columns.count(), row.session.tracks.count(), Take.objects.count(), Sounding.objects.count()


class ListedTest(DemoTest):
    def test_of_many_takes_the_newest_are_listed_and_the_others_on_request(self):
        session = recorded_demo()
        as_many(session, 120, 0)
        track = self.track("Bittern")
        mine = list(track.takes.order_by("-number"))
        many, per_track = session.takes.count(), len(mine)
        page = self.page("session:home")
        self.assertEqual(page.count('class="side-item" id="take-'), LISTED)
        self.assertIn(f"Show {many - LISTED} older takes", page)
        self.assertEqual(self.page("session:home", takes=many).count('class="side-item" id="take-'), many)
        page = self.page("session:takes", track.uid)
        self.assertIn(f"Show {per_track - LISTED} older takes", page)
        self.assertNotIn(f"Take {mine[-1].number} ", page)
        heard = reverse("session:takes-hear", args=[track.uid, mine[-1].uid])
        self.assertNotIn(heard, page)
        self.assertIn(heard, self.page("session:takes", track.uid, every=1))
        self.assertEqual(self.client.get(heard).status_code, 200)
        # What is let stand is listed, however old.
        sent = {"to": "stand", "take": str(mine[-1].uid), "first_bar": "1", "last_bar": "1"}
        self.client.post(reverse("session:takes", args=[track.uid]), sent)
        self.assertIn(heard, self.page("session:takes", track.uid))
        self.assertIn(f"Show {many - LISTED} more files", self.page("handover:home"))

    def test_of_many_soundings_the_newest_and_the_opened_one_are_listed(self):
        as_many(recorded_demo(), 0, 400)
        trip = self.instrument("Bittern").uid
        mine = list(Sounding.objects.filter(instrument_uid=trip).order_by("-made"))
        self.assertGreater(len(mine), 2 * LISTED)
        oldest = reverse("timing:open", args=[mine[-1].uid])
        page = self.page("timing:trip", trip)
        self.assertIn(f"Show {len(mine) - LISTED} older soundings", page)
        self.assertNotIn(f'{oldest}#opened"', page)
        self.assertIn(f'{oldest}#opened"', self.page("timing:trip", trip, every=1))
        self.assertIn(f'{oldest}#opened"', self.page("timing:open", mine[-1].uid))

    def test_those_of_the_same_trip_are_compared_first(self):
        as_many(recorded_demo(), 0, 60)
        row = Sounding.objects.filter(instrument_uid=self.instrument("Bittern").uid).first()
        others = others_to_compare(row)
        same = [one.instrument_uid == row.instrument_uid for one in others]
        self.assertNotIn(row, others)
        self.assertEqual(same, sorted(same, reverse=True))
        self.assertGreater(same.count(True), 1)
        for kind in (True, False):
            made = [one.made for one, alike in zip(others, same, strict=True) if alike == kind]
            self.assertEqual(made, sorted(made, reverse=True))


class StampsTest(DemoTest):
    def test_a_plan_is_read_once_until_something_of_it_changes(self):
        before = load_plan(self.rig)
        self.assertIs(load_plan(self.rig), before)
        Session.objects.update(name="Low water")
        self.assertIs(load_plan(self.rig), before)
        for change in ({"name": "Heron"}, {"note": "on the left"}):
            Box.objects.filter(name__startswith="Heron").update(**change)
            self.assertIsNot(load_plan(self.rig), before)
            before = load_plan(self.rig)
        self.assertEqual({"Heron"}, {box.name for box in before.rig.boxes if box.note == "on the left"})

    def test_what_was_taken_back_is_not_kept(self):
        before = load_plan(self.rig)
        for name in ("Once", "Twice"):
            try:
                with transaction.atomic():
                    Rig.objects.update(name=name)
                    self.assertEqual(load_plan(self.rig).rig.name, name)
                    raise InterruptedError
            except InterruptedError:
                self.assertEqual(load_plan(self.rig), before)

    def test_what_a_page_asks_later_is_never_older_than_what_it_has_read(self):
        before = load_plan(self.rig)
        with one_look():
            stamps_of("rig")
            Box.objects.filter(name__startswith="Heron").update(name="Moorhen")
            self.assertIs(load_plan(self.rig), before, "kept, and one look says nothing changed")
            names = kept_while(("rig",), "names", lambda: set(Box.objects.values_list("name", flat=True)))
            self.assertIn("Moorhen", names)
            self.assertIn("Moorhen", {box.name for box in load_plan(self.rig).rig.boxes})

    def test_kept_rows_are_their_readers_own_and_never_older_than_the_table(self):
        def read() -> Track | None:
            return rows_while(("takes",), "a row", Track.objects.filter(name="Bittern").first)

        with CaptureQueriesContext(connection) as asked:
            first, second = read(), read()
        self.assertEqual(sum("records_track" in one["sql"] for one in asked), 1)
        self.assertEqual(first, second)
        first.name = "changed by one reader"
        self.assertEqual(read().name, "Bittern")
        first.save()
        self.assertIsNone(read(), "no row is kept as well")
        Track.objects.filter(uid=first.uid).update(name="Bittern", order=99)
        self.assertEqual(read().order, 99)

    def test_tracks_that_are_kept_belong_to_the_session_they_are_asked_of(self):
        tracks_of(self.session)
        session = Session.objects.get(uid=self.session.uid)
        for track in tracks_of(session):
            self.assertIs(track.session, session)
            if track.voice_of_id:
                self.assertIs(track.voice_of.session, session)

    def test_every_change_of_every_table_replaces_its_stamp(self):
        made = {
            name for (name,) in connection.cursor().execute("SELECT name FROM sqlite_master WHERE type = 'trigger'")
        }
        for subject, tables in SUBJECTS.items():
            for table in (one._meta.db_table for one in tables):
                self.assertLessEqual({f"stamp_{subject}_{table}_{change}" for change in CHANGES}, made)
            row = tables[0].objects.first()
            if row is not None:
                (before,) = stamps_of(subject)
                row.save()
                self.assertNotEqual(stamps_of(subject), (before,), subject)

    def test_what_is_written_only_where_nothing_stands_in_its_way_is_seen(self):
        before = load_plan(self.rig)
        box = before.rig.boxes[-1]
        Loop.objects.bulk_create(
            [Loop(uid=uuid.uuid4(), rig=self.rig, name="Another", box_uid=box.uid)], ignore_conflicts=True
        )
        self.assertEqual(len(load_plan(self.rig).loops), len(before.loops) + 1)

    def test_a_table_made_anew_has_its_triggers_again(self):
        connection.cursor().execute("DROP TRIGGER stamp_rig_records_box_update")
        set_triggers()
        before = load_plan(self.rig)
        Box.objects.update(colour="#123456")
        self.assertIsNot(load_plan(self.rig), before)


class StandingTest(DemoTest):
    def test_what_is_asked_without_the_takes_is_what_the_takes_say(self):
        self.record("Bittern", "Alder kit", bars=(1, 4))
        self.record("Bittern", bars=(2, 3), place=False)
        Take.objects.filter(number=1).update(doubts=[{"kind": "other", "what": "w", "cause": "c"}])
        Take.objects.filter(number=2).update(trimmed=[2, 3])
        for changes in ({}, {"accepted": True}, {"peak_db": -90.0}, {"placement": None}, {"measurement": None}):
            Take.objects.filter(number__lte=3).update(**changes)
            known = known_takes(self.session)
            for track in self.session.tracks.all():
                rows = list(track.takes.kept().filter(beside=False))
                mine = known.get(track.uid, ())
                self.assertEqual([one.offered for one in mine], [row.offered for row in rows])
                self.assertEqual(
                    [(one.placed, one.file, one.frames) for one in mine],
                    [(row.placement is not None, *row.sound_file) for row in rows],
                )
                expected = standing((row.offered for row in rows), track.choices)
                self.assertEqual(stretches_of(track, mine), expected)

    def test_an_older_take_stands_where_the_sound_of_a_newer_one_is_gone(self):
        for _ in range(2):
            self.record("Bittern")
        track, (new, old) = self.track("Bittern"), Take.objects.order_by("-number")
        known = known_takes(self.session)[track.uid]
        self.assertEqual({one.uid for one in stretches_of(track, known, there=True)}, {str(new.uid)})
        gone = [replace(one, file="gone.wav") if one.uid == str(new.uid) else one for one in known]
        self.assertEqual({one.uid for one in stretches_of(track, gone, there=True)}, {str(old.uid)})
