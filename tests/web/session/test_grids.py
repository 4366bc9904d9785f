"""Patterns of a track: programmed, looped on the box, printed, taken back."""

from unittest import mock

import numpy as np
from django.urls import reverse

from hypotaxis.core.grid.values import Grid, Pattern, Row, Step, Voicing
from hypotaxis.records import journal
from hypotaxis.records.models import Job, Track
from hypotaxis.records.plan import notes_of
from hypotaxis.steps.session.services import arranging, grid_loop, grids
from hypotaxis.core.session.arrange import empty
from tests.web.base import DemoTest


class GridTest(DemoTest):
    def setUp(self):
        super().setUp()
        piece = empty(bpm=96, beats=4, unit=4, bars=4)
        self.piece = arranging.new_session(self.rig, self.plan, piece, name="Programmed", tracks=True)
        self.client.cookies["hypotaxis-session"] = str(self.piece.uid)
        self.kit = self.piece.tracks.get(name="Alder kit")
        self.page = reverse("session:grid", args=[self.kit.uid])

    def send(self, to: str, query: str = "", **fields):
        return self.client.post(f"{self.page}{query}", {"to": to, **fields}, follow=True)

    @property
    def grid(self) -> Grid:
        return grids.grid_of(Track.objects.get(uid=self.kit.uid))

    def test_a_row_swings_and_shifts(self):
        self.send("press", note=42, place=1)
        answer = self.send("row", note=42, a_quarter="4", length="0", swing="58", shift_ms="-2", level_db="0.0")
        self.assertEqual([str(one) for one in answer.context["messages"]], [])
        self.assertEqual(self.grid.voice(42), Voicing(42, swing=58, shift_ms=-2))

    def test_loop(self):
        self.send("press", note=36, place=0)
        kit = Track.objects.get(uid=self.kit.uid)
        looks = iter(range(1000))
        with mock.patch.object(grid_loop, "is_wanted", side_effect=lambda: next(looks) > 8):
            job = grid_loop.start_loop(kit, self.plan, grid_loop.LoopWish("A"))
        job.refresh_from_db()
        self.assertEqual((job.state, job.message), (Job.DONE, ""))
        print(job.result)
