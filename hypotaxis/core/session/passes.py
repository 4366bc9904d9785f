"""Can these parts be recorded in one pass, and which return is silent meanwhile?"""

from collections.abc import Sequence
from dataclasses import dataclass

from hypotaxis.core.errors import CannotSchedule, SharedReturn
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.trips import returns_text


@dataclass(frozen=True)
class ArmedTrack:
    """A track armed for a pass, with the instrument it is assigned to (None = none)."""

    uid: str
    name: str
    instrument: Instrument | None


@dataclass(frozen=True)
class InputUse:
    """An input a pass records: the return's socket uid, its system name, and how it is spoken of."""

    socket: str
    system_name: str
    name: str


def check_pass(plan: Plan, armed: Sequence[ArmedTrack]) -> None:
    """Raises CannotSchedule (or its kind SharedReturn) when these tracks cannot be recorded in one pass."""
    if not armed:
        raise CannotSchedule("No track is armed. Arm at least one track, then record.")
    heard_by: dict[str, ArmedTrack] = {}
    for track in armed:
        instrument = track.instrument
        if instrument is None:
            raise CannotSchedule(f"{track.name} has no instrument. Choose one for it, or disarm it.")
        if plan.rig.find(instrument.send) is None:
            raise CannotSchedule(f"{instrument.name} has no send socket: its notes would go nowhere.")
        if not instrument.returns:
            raise CannotSchedule(f"{instrument.name} has no return: nothing would be recorded of {track.name}.")
        for uid in instrument.inputs:
            if plan.rig.find(uid) is None:
                raise CannotSchedule(f"The return of {instrument.name} is gone. Choose it anew on Instruments.")
            other = heard_by.setdefault(uid, track)
            if other.uid != track.uid:
                shared = tuple(one for one in instrument.inputs if one in other.instrument.inputs)
                raise SharedReturn(
                    f"{other.name} and {track.name} both come home on {returns_text(plan.rig, shared)}: "
                    "in one pass they would be mixed in one take. Record them in a pass each."
                )


def inputs_of(plan: Plan, instruments: Sequence[Instrument]) -> tuple[InputUse, ...]:
    """The inputs of the instruments' returns, each once, in order."""
    uses: dict[str, InputUse] = {}
    for instrument in instruments:
        for uid in instrument.inputs:
            found = plan.rig.find(uid)
            if found:
                uses.setdefault(uid, InputUse(uid, found[1].system_name, found[1].name))
    return tuple(uses.values())


def live_return_silent(has_take: bool, being_recorded: bool) -> bool:
    """Whether a track's live return is held silent: as soon as a take of it exists or is being made.

    Heard together with its take, a return would double or phase.
    """
    return has_take or being_recorded
