"""What is heard on an output pair while a pass is recorded: the takes that stand, a click, and what comes home through
the host?

What plays there must not come home again: a pair that feeds anything whose sound arrives at an input is refused.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.mixing.desk import OFF, Mixing
from hypotaxis.core.plan import Plan, Return
from hypotaxis.core.rig.trips import host_audio
from hypotaxis.core.rig.values import Socket
from hypotaxis.core.session.schedule import Round
from hypotaxis.core.studio import Passed, Sound


@dataclass(frozen=True)
class HeardBeside:
    """What a pass froze of it. outputs: system names, left and right; takes: whether those of other tracks play; click,
    click_db: where it clicks, one of mixing.desk.CLICKS, and how loud; through: the inputs that are heard there."""

    outputs: tuple[str, ...]
    takes: bool
    click: str = OFF
    click_db: float = -12.0
    through: tuple[Passed, ...] = ()


def outputs_of(plan: Plan) -> list[tuple[Socket, str]]:
    """The audio outputs on which the host can play, with their names."""
    return [(socket, f"{box.name} {socket.name}") for box, socket in host_audio(plan.rig, "out") if socket.system_name]


def beside_of(plan: Plan, mixing: Mixing, returns: Sequence[tuple[Return, float]]) -> HeardBeside | None:
    """What is heard beside a pass that records these returns, each with its home trim in dB; None where nothing is.
    Raises CannotSchedule where the pair is not there, or feeds what is recorded."""
    if not (mixing.in_passes or mixing.through or mixing.click != OFF):
        return None
    pair = [plan.rig.find(uid) for uid in mixing.outputs]
    if not pair or None in pair:
        raise CannotSchedule(
            "Choose on “Heard together” the outputs on which you hear takes, click and count-in, or leave these out."
        )
    for box, socket in pair:
        _check_output(plan, socket, f"{box.name} {socket.name}")
    names = tuple(socket.system_name for _, socket in pair)
    return HeardBeside(
        outputs=names,
        takes=mixing.in_passes,
        click=mixing.click,
        click_db=mixing.click_db,
        through=tuple(_through(plan, returns, names)) if mixing.through else (),
    )


def _check_output(plan: Plan, socket: Socket, name: str) -> None:
    loop = next((one for one in plan.loops if socket.uid in one.sends), None)
    if loop:
        raise CannotSchedule(f"{name} feeds the effect loop {loop.name}: what plays there would come home with it.")
    far = plan.rig.far_end(socket.uid)
    outs = far[0].sockets if far else ()
    back = next(
        (one for one in outs if (one.kind, one.direction) == ("audio", "out") and plan.rig.far_end(one.uid)), None
    )
    if back:
        raise CannotSchedule(
            f"{name} feeds {far[0].name}, and sound leaves that again by {back.name}: it would get into the returns. "
            "Choose outputs that only speakers or headphones hang on."
        )


def _through(plan: Plan, returns: Sequence[tuple[Return, float]], outputs: tuple[str, ...]):
    for one, trim_db in returns:
        names = [plan.rig.find(uid)[1].system_name for uid in one.inputs if plan.rig.find(uid)]
        sides = (
            zip(names, outputs, strict=False) if len(names) > 1 else ((name, out) for name in names for out in outputs)
        )
        for name, out in sides:
            yield Passed(name, out, trim_db)


class PlayedBeside:
    """The sound of a session as a run plays it, time round by time round. read: the sum between two session positions,
    shape (frames, 2)."""

    def __init__(self, read: Callable[[int, int], np.ndarray], rounds: Sequence[Round]) -> None:
        self._read, self._rounds = read, rounds
        self._last: tuple[int, int, np.ndarray] | None = None

    def side(self, column: int) -> Sound:
        """What one output plays."""
        return lambda start, frames: self._stretch(start, frames)[:, column]

    def _stretch(self, start: int, frames: int) -> np.ndarray:
        # Both outputs ask for the same stretch, one after the other.
        if self._last is None or self._last[:2] != (start, frames):
            sound = np.zeros((frames, 2))
            for one in self._rounds:
                first, last = max(start, one.start), min(start + frames, one.start + one.frames)
                if first < last:
                    at = one.first_sample + first - one.start
                    sound[first - start : last - start] = self._read(at, at + last - first)
            self._last = (start, frames, sound)
        return self._last[2]
