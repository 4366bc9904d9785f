"""How long something takes: by the clock on the wall, or in computing."""

import time
from collections.abc import Callable


def best_of(what: Callable[[], object], runs: int = 5) -> float:
    """Shortest time of a few runs in seconds, after one that warms up."""
    what()
    return min(_took(what, time.perf_counter) for _ in range(runs))


def computing(what: Callable[[], object], runs: int = 3) -> float:
    """Seconds of computing, the least of a few runs."""
    return min(_took(what, time.process_time) for _ in range(runs))


def _took(what: Callable[[], object], clock: Callable[[], float]) -> float:
    began = clock()
    what()
    return clock() - began
