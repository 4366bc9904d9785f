"""The whole plan as one frozen value: the rig and the instruments defined on it."""

from dataclasses import dataclass

from hypotaxis.core.rig.values import Rig


@dataclass(frozen=True, kw_only=True)
class Instrument:
    """A box made one thing: where its notes go and where its sound comes back.

    Sockets are named by uid and may point to something that is gone: that is a loose end, never an error here.
    channel: 1–16. returns: one input (mono) or two (left, right); empty = none chosen. home_trim_db: applied when
    the return is heard or handed over, never to the take itself. lateness_ms: None until measured; + late.
    """

    uid: str
    name: str
    box: str
    send: str = ""
    channel: int = 1
    returns: tuple[str, ...] = ()
    home_trim_db: float = 0.0
    lateness_ms: float | None = None
    colour: str = ""


@dataclass(frozen=True, kw_only=True)
class Plan:
    """The rig and its instruments, in their order."""

    rig: Rig
    instruments: tuple[Instrument, ...] = ()

    def instrument(self, uid: str) -> Instrument | None:
        """The instrument with this uid, or None."""
        return next((instrument for instrument in self.instruments if instrument.uid == uid), None)
