"""The one record of a measurement: what it holds, to plain data and back, and out of what was kept before it."""

import importlib
import json
from dataclasses import asdict
from datetime import UTC, datetime, timedelta

from django.test import SimpleTestCase

from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.plan import TYPED
from hypotaxis.core.rig.change import set_instrument, set_rig
from hypotaxis.core.timing.applied import SOUNDING, TAKE, Found, applied, carrying
from hypotaxis.core.timing.choose import Answer
from hypotaxis.core.timing.context import context_of
from hypotaxis.core.timing.measurement import Measurement, measurement_of
from hypotaxis.core.timing.report import report
from tests.core.timing.generated import Case
from tests.core.timing.test_lateness import answer
from tests.rooms import instrument_named, small_room


class MeasurementTest(SimpleTestCase):
    def test_it_comes_back_from_plain_data(self):
        for case in (Case("drum", jitter_ms=0.3), Case("drum", two_ms=2.7, jitter_ms=0.03)):
            found = measurement_of(answer(case)[0], warnings=("of the file",))
            self.assertEqual(from_json(Measurement, json.loads(json.dumps(to_json(found)))), found)
            self.assertEqual(found.matched + found.missed, found.looked_for)

    def test_what_was_kept_before_becomes_the_same_record(self):
        migration = importlib.import_module("hypotaxis.records.migrations.0020_measurements")
        found = answer(Case("drum", two_ms=2.7, jitter_ms=0.03))[0]
        wanted = measurement_of(found)
        of_report = from_json(Measurement, migration.of_report(report(Answer(found, 2, 10, ""))))
        of_take = from_json(
            Measurement, migration.of_take(asdict(found) | {"used": found.used, "set_aside": found.set_aside})
        )
        self.assertEqual(of_take, wanted)
        for name in ("lateness_ms", "lateness_low", "jitter_high", "end_half", "drift_half"):
            self.assertAlmostEqual(getattr(of_report, name), getattr(wanted, name), delta=1e-5)
        self.assertEqual((of_report.used, of_report.missed, of_report.side), (wanted.used, wanted.missed, wanted.side))
        self.assertAlmostEqual(of_report.two.late_ms, wanted.two.late_ms, delta=1e-5)


class AppliedTest(SimpleTestCase):
    def setUp(self):
        self.plan = small_room()
        self.bittern = instrument_named(self.plan, "Bittern")

    def found(self, late: float, kind: str = SOUNDING, age: int = 0, plan=None) -> Found:
        made = datetime(2026, 3, 1, tzinfo=UTC) - timedelta(hours=age)
        context = context_of(plan or self.plan, self.bittern)
        return Found(kind, "u", late, 0.1, 0.2, 30, 32, "one", made, context)

    def known(self, *measured: Found, plan=None, name: str = "Bittern"):
        plan = plan or self.plan
        return applied(plan, {self.bittern.uid: measured})[instrument_named(plan, name).uid]

    def test_the_newest_measurement_counts_and_nothing_else_is_changed_by_it(self):
        state = self.known(self.found(14.0, age=2), self.found(15.0, TAKE))
        self.assertEqual((state.lateness_ms, state.source, state.told), (15.0, TAKE, ""))
        self.assertEqual(self.known().source, "")

    def test_what_was_typed_stands_and_what_came_with_the_rig_gives_way(self):
        typed = set_instrument(self.plan, self.bittern.uid, given_ms=11.5, given_from=TYPED)
        self.assertEqual(self.known(self.found(14.0), plan=typed).lateness_ms, 11.5)
        came = set_instrument(self.plan, self.bittern.uid, given_ms=11.5, given_from=TAKE)
        self.assertEqual((self.known(plan=came).lateness_ms, self.known(plan=came).told), (11.5, "kept"))
        self.assertEqual(self.known(self.found(14.0), plan=came).lateness_ms, 14.0)

    def test_another_buffer_makes_it_stale_and_two_buffers_predict_a_third(self):
        plans = {size: set_rig(self.plan, buffer=size) for size in (128, 256, 512)}
        measured = [self.found(10.0 + size / 48, age=9 - n, plan=plans[size]) for n, size in enumerate((128, 256))]
        state = self.known(measured[0], plan=plans[512])
        self.assertEqual((state.told, state.stale), ("stale", ("buffer 128, now 512",)))
        state = self.known(*measured, plan=plans[512])
        self.assertEqual((state.source, round(state.lateness_ms, 3)), ("predicted", round(10 + 512 / 48, 3)))

    def test_a_copy_carries_what_is_known_but_not_what_is_borrowed(self):
        known = applied(self.plan, {instrument_named(self.plan, "Sedge upper").uid: [self.found(14.25)]})
        self.assertEqual(known[instrument_named(self.plan, "Sedge lower").uid].told, "borrowed, stale")
        carried = carrying(self.plan, known)
        upper, lower = (instrument_named(carried, name) for name in ("Sedge upper", "Sedge lower"))
        self.assertEqual((upper.given_ms, upper.given_from, lower.given_ms), (14.25, SOUNDING, None))
