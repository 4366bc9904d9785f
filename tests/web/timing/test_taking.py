"""Soundings taken by the studio, against the hits that were really played."""

from unittest import mock

import numpy as np

from hypotaxis.core.timing.wish import Wish
from hypotaxis.records.models import Job, Sounding
from hypotaxis.standin.desk import Desk
from hypotaxis.steps.timing.services import taking
from tests.web.base import DemoTest


class TakingTest(DemoTest):
    def sound(self, trip, **wish) -> tuple[Sounding, Desk]:
        """(the sounding, the desk it was taken on)."""
        desks = []
        original = Desk.run

        def run(desk, messages, inputs, **named):
            if inputs:
                desks.append(desk)
            return original(desk, messages, inputs, **named)

        with mock.patch.object(Desk, "run", run):
            (row,) = taking.start(self.rig, self.plan, [trip], Wish(fast=True, **wish))
        row = Sounding.objects.select_related("job").get(uid=row.uid)
        self.assertEqual(row.job.state, Job.DONE, row.job.message)
        return row, desks[0]

    def test_an_instrument_is_sounded_and_what_was_really_played_is_found(self):
        row, desk = self.sound(taking.Trip(self.instrument("Bittern")), hits=32)
        found = row.result
        late = np.array([desk.frame_of(h.begins_s) for h in desk.played()])
        moments = np.array([hit[0] for hit in found["hits"]])
        # The recording begins where the score does, half a second after the run.
        true = (late - 24_000 - moments) / 48
        self.assertEqual((found["matched"], found["missed"], found["extra"]), (32, 0, 0))
        self.assertAlmostEqual(found["offset_ms"], float(np.median(true)), delta=0.15)
        bittern = self.instrument("Bittern")
        self.assertEqual((bittern.lateness_ms, bittern.lateness_from), (round(found["offset_ms"], 3), "sounding"))

    def test_an_effect_loop_is_read_finer_than_a_sample(self):
        row, desk = self.sound(taking.Trip(loop=self.plan.loops[0]), hits=16)
        nature = desk.nature
        there_and_back = 2 * (nature.converter_samples + nature.driver_samples + 256) + 0.0013 * 48_000
        self.assertAlmostEqual(row.result["offset_samples"], there_and_back, delta=0.1)
        self.assertTrue(row.result["impulses"])
        self.assertEqual(self.plan.loops[0].lateness_from, "sounding")
