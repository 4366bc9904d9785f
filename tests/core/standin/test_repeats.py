"""A hundred honest repeats of the stand-in's boxes are told to be the same: no false alarm costs an evening."""

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.mixing.sameness import SAME, Energies, same_or_different
from hypotaxis.core.session.passes import ArmedTrack, plan_pass, schedule_pass
from hypotaxis.core.studio import RunSetup, Written
from hypotaxis.demo.compose import saltmarsh_room, tide_tables
from hypotaxis.standin.desk import Desk
from tests.rooms import instrument_named

TIMES = 26
BARS = {"first_bar": 1, "last_bar": 2}


class RepeatsTest(SimpleTestCase):
    def test_a_hundred_of_four_boxes_without_a_false_alarm(self):
        plan, score = saltmarsh_room(), tide_tables()
        parts = {part.name: part for part in score.parts}
        names = ("Sedge upper", "Bittern", "Alder kit", "Alder kick")
        armed = [ArmedTrack(name, name, instrument_named(plan, name)) for name in names]
        setup = plan_pass(plan, armed, score.tempo, **BARS, lateness_ms={}, times=TIMES)
        played = {name: (parts[name].notes, parts[name].controls) for name in names}
        schedule = schedule_pass(setup, played, score.tempo, **BARS)
        blocks = Desk(plan.rig, seed=16).run(
            Written(schedule.messages), RunSetup(inputs=setup.inputs, frames=schedule.frames, fast=True)
        )
        sound = np.concatenate([block.samples for block in blocks])
        bar_s = float(score.tempo.us_at(score.tempo.bar_tick(2))) / 1e6
        bars, checked = [(1, bar_s), (2, 2 * bar_s)], 0
        for part in setup.parts:
            heard = sound[:, list(part.returns[-1].columns)]
            # The first time round nothing rings on from before: it is no repeat of the others.
            rounds = [self.energies(heard[one.start : one.start + one.frames], setup.rate) for one in setup.rounds[1:]]
            for again in rounds[1:]:
                found = same_or_different(again, rounds[0], bars)
                self.assertEqual(found.kind, SAME, f"{part.track}: {found.told}")
                checked += 1
        self.assertEqual(checked, 4 * (TIMES - 2))

    @staticmethod
    def energies(sound: np.ndarray, rate: int) -> np.ndarray:
        reader = Energies(rate)
        reader.feed(sound)
        return reader.found()
