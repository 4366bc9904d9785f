"""What pages keep is never older than its rows.

Whatever changes, and whoever changes it, a page that was shown before is the page of one who never saw it.
"""

import re

from django.db.models import F, Value
from django.db.models.functions import Concat
from django.urls import reverse

from hypotaxis.records import stamps
from hypotaxis.records.models import (
    Box,
    Change,
    FrontPanel,
    Instrument,
    Job,
    Pass,
    Patch,
    PatchList,
    Rig,
    Session,
    Socket,
    Sounding,
    Take,
    Track,
)
from hypotaxis.records.plan import load_plan, notes_of
from hypotaxis.steps.handover.sheet import settings_sheet
from hypotaxis.steps.session import forms as session_forms
from hypotaxis.steps.session.services import outlines
from hypotaxis.steps.session.services.notes_shown import notes_shown
from hypotaxis.steps.timing.services.wires import waits_by_instrument
from tests.many import pages_of, recorded_demo
from tests.web.base import DemoTest

BY_CHANCE = re.compile(r'name="(csrfmiddlewaretoken|token)" value="[^"]*"|[\d,]+ (?=GB|MB)|of [\d,]+</dd>')
"""What differs from answer to answer: tokens, and room on the disk."""
FIXED = ("rig: ", "poll: ", "session: sessions", "session: plan")
"""Pages that keep nothing of their own."""
LONGER = Concat(F("name"), Value(" x"))
CHANGED = (
    (Rig, {"buffer": 512}, "timing"),
    (Box, {"name": LONGER}, "rig"),
    (Socket, {"label": Concat(F("label"), Value(" x"))}, "rig"),
    (Instrument, {"name": LONGER}, "instruments"),
    (PatchList, {"name": LONGER}, "instruments: one"),
    (Patch, {"name": LONGER}, "session"),
    (Sounding, {"name": LONGER}, "timing: a trip"),
    (Session, {"name": LONGER}, "session"),
    (Track, {"name": LONGER}, "session"),
    (Track, {"armed": False}, "session"),
    (Pass, {"accepted": True}, "session"),
    (Take, {"placement": None}, "session"),
    (Take, {"kept": False}, "session"),
    (Change, {"title": "a step by another window"}, "session"),
    (Job, {"state": Job.RUNNING}, "session"),
    (FrontPanel, {"settings": {"off": True}}, ""),
)
"""Table, what another process writes into all of its rows, and a page that shows it ("": none need)."""


class KeptTest(DemoTest):
    def before_all(self) -> None:
        Rig.objects.all().delete()
        session = recorded_demo()
        session.tracks.update(patch_uid=str(Patch.objects.first().uid))
        self.plug_sluice()

    def pages(self) -> dict[str, str]:
        found = {}
        for name, address in self.addresses.items():
            answer = self.client.get(address)
            self.assertEqual(answer.status_code, 200, name)
            found[name] = BY_CHANCE.sub("", answer.content.decode())
        return found

    def test_what_any_table_changes_is_seen_on_every_page(self):
        pages = {name: address for name, address in pages_of(self.rig).items() if not name.startswith(FIXED)}
        self.addresses = pages | {"recall": reverse("session:recall")}
        before = self.pages()
        for table, fields, shown_on in CHANGED:
            with self.subTest(table=table.__name__, **{name: str(value) for name, value in fields.items()}):
                self.assertTrue(table.objects.exists())
                table.objects.update(**fields)
                kept = self.pages()
                stamps._answers.clear()
                outlines.outline_of.cache_clear()
                outlines.wave_of.cache_clear()
                session_forms._shown_form.cache_clear()
                fresh = self.pages()
                for name in fresh:
                    self.assertEqual(kept[name], fresh[name], name)
                if shown_on:
                    self.assertNotEqual(before[shown_on], kept[shown_on])
                before = fresh

    def test_what_a_request_holds_is_not_kept_as_what_stands_since(self):
        held = Session.objects.get()
        plan, track = load_plan(held.rig), held.tracks.filter(name="Bittern").get().uid

        def told(session: Session) -> tuple:
            sheet = settings_sheet(plan, session)
            return notes_shown(session, 48_000).edges(track)[0].tolist(), waits_by_instrument(plan, session), sheet

        told(held)
        twice_as_fast = [[tick, us // 2] for tick, us in held.tempos]
        Session.objects.filter(uid=held.uid).update(tempos=twice_as_fast, name="Neap")
        old, new = told(held), told(Session.objects.get())
        self.assertEqual(old, new)
        self.assertEqual(new[2].title, "Neap")
        self.assertLess(new[0][-1], held.tempo_map.samples_at(notes_of(held.tracks.get(uid=track))["tick"], 48_000)[-1])
