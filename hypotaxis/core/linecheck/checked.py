"""What is kept of a line check: what was heard and what was told then. What it says today follows from the plan
(`verdicts`)."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from hypotaxis.core.linecheck.hearing import LineHeard
from hypotaxis.core.linecheck.verdicts import AS_PLANNED


@dataclass(frozen=True)
class CheckedLine:
    """What was heard of a line. kind: what it was told to be then; answers_on: the channel on which it was found, 0 =
    none; day: when, ISO 8601; away: system names that were not there, so that it was not played; first:
    what it was told at first, where it was heard twice and that was another thing; replied: whether its box told who it
    is, None = it was not asked; told: what the person answered, by question."""

    key: str
    heard: LineHeard
    kind: str = ""
    answers_on: int = 0
    day: str = ""
    away: tuple[str, ...] = ()
    first: str = ""
    replied: bool | None = None
    told: Mapping[str, bool] = field(default_factory=dict)


@dataclass(frozen=True)
class OmniHeard:
    """Whether a box (uid) answered on a channel on which nothing is meant to listen. day: when, ISO 8601."""

    box: str
    on: bool
    channel: int
    day: str

    @property
    def told(self) -> str:
        """In a sentence."""
        return f"It {'answers' if self.on else 'stays silent'} on channel {self.channel}, which is nobody's."


@dataclass(frozen=True)
class Checked:
    """A check, as far as it is. now: key of the line that sounds; probing: other channels are asked; omni: what boxes
    did on a channel that is nobody's."""

    lines: tuple[CheckedLine, ...] = ()
    now: str = ""
    probing: bool = False
    omni: tuple[OmniHeard, ...] = ()

    @property
    def differing(self) -> int:
        """Lines that were told not to be as planned, then."""
        return sum(one.kind != AS_PLANNED for one in self.lines)
