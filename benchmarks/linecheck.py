"""`python -m benchmarks.linecheck [DESKS]`: the line check on random desks with planted mistakes, as JSON: shares
in the right class, with the true cause first and among the first three, and false alarms on sound desks."""

import json
import sys

import numpy as np

from tests.core.linecheck.desks import checked, planted, sound_desk

BOXES = (3, 21)
"""From so many to one less."""


def figures(desks: int) -> dict:
    """Of so many desks with a mistake, and a third as many without."""
    right = first = among = apart = 0
    for seed in range(desks):
        rng = np.random.default_rng(seed)
        one = planted(rng, int(rng.integers(*BOXES)))
        found = [verdict for verdict in checked(one) if not verdict.fine and verdict.kind in one.kinds]
        causes = [[cause.told for cause in verdict.causes] for verdict in found]
        right += bool(found)
        among += any(one.words in told for mine in causes for told in mine[:3])
        apart += one.apart
        first += one.apart and any(one.words in mine[0] for mine in causes if mine)
    sound = desks // 3
    alarms = 0
    for seed in range(sound):
        rng = np.random.default_rng(1_000_000 + seed)
        alarms += any(not one.fine for one in checked(sound_desk(rng, int(rng.integers(*BOXES)))))
    shares = {"right class": right / desks, "among three": among / desks, "first, told apart": first / max(1, apart)}
    return {"desks": desks, **shares, "sound desks": sound, "false alarms": alarms}


if __name__ == "__main__":
    print(json.dumps(figures(int(sys.argv[1]) if len(sys.argv) > 1 else 500)))
