"""What stands on every page: the title row and the work line with its live facts."""

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from django.http import HttpRequest
from django.utils.html import format_html_join
from django.utils.safestring import SafeString

from hypotaxis.core.findings.finding import Finding
from hypotaxis.core.session.passes import LedBy, leader_of
from hypotaxis.core.studio import STAND_IN, STUDIO_NAMES
from hypotaxis.core.sync.leader import TempoIn
from hypotaxis.records import journal
from hypotaxis.records.current import InUse, SessionName, in_use
from hypotaxis.records.models import Job, Rig, Session
from hypotaxis.steps.registry import STEPS, Step
from hypotaxis.steps.sync import leading
from hypotaxis.web import worker_watch
from hypotaxis.web.room.door import Door, door

THEMES = ("day", "night")


@dataclass(frozen=True)
class Line:
    """A step on the work line. told: its live fact; wrong: how many things are wrong there."""

    step: Step
    told: str
    wrong: int
    here: bool


class Frame:
    """The frame of a page. Everything is worked out when a template asks for it, so a fragment or a poll, which have no
    frame, cost nothing of it."""

    def __init__(self, request: HttpRequest, here: InUse, step: str) -> None:
        self._request, self._here, self.step = request, here, step

    @cached_property
    def rig(self) -> Rig:
        return self._here.rig

    @cached_property
    def session(self) -> Session | None:
        return self._here.session

    @cached_property
    def sessions(self) -> Sequence[SessionName]:
        return self._here.sessions

    @cached_property
    def pace(self) -> dict[str, str] | None:
        """Tempo and meter of the session; where they change, from the lowest to the highest, and every meter."""
        if self.session is None:
            return None
        tempo = self.session.tempo_map
        meters = list(dict.fromkeys(f"{over}/{under}" for _, over, under in tempo.meters))
        shown = ", ".join(meters[:2]) + (" …" if len(meters) > 2 else "")
        return {"bpm": tempo.told, "meter": shown}

    @cached_property
    def steps(self) -> list[Line]:
        lines = []
        for step in STEPS:
            fact = step.fact(self._here)
            lines.append(Line(step, fact.told, fact.wrong, step.name == self.step))
        return lines

    @cached_property
    def leader(self) -> LedBy | None:
        """The box that leads."""
        return leader_of(self._here.plan)

    @cached_property
    def listening(self) -> Job | None:
        """What follows its clock now."""
        return leading.listening(self.rig) if self.leader else None

    @property
    def tempo_in(self) -> TempoIn:
        """The tempo that arrives."""
        return leading.tempo_in(self.listening)

    @property
    def studio(self) -> str:
        """The studio in use, as the title row names it."""
        return STUDIO_NAMES[self._here.plan.studio_kind]

    @property
    def simulated(self) -> bool:
        """Whether it is the stand-in, which can be faster than real time and whose boxes can be opened."""
        return self._here.plan.studio_kind == STAND_IN

    @property
    def findings(self) -> list[Finding]:
        return self._here.findings

    @cached_property
    def around(self) -> journal.Around:
        """What undo and redo would do."""
        return journal.around(self.rig, self.session)

    @property
    def theme(self) -> str:
        """The light that was chosen; "" follows the system."""
        chosen = self._request.COOKIES.get("hypotaxis-theme", "")
        return chosen if chosen in THEMES else ""

    @property
    def door(self) -> Door | None:
        """The door to the room, while it is open."""
        return door if door.room else None

    @property
    def worker_trouble(self) -> str:
        return worker_watch.trouble()

    @cached_property
    def mine(self) -> SafeString:
        """Hidden fields that say of which rig and session a form is: they stand in every form that is sent."""
        shown = [("of_rig", self.rig.uid), *([("of_session", self.session.uid)] if self.session else [])]
        return format_html_join("", '<input type="hidden" name="{}" value="{}">', shown)

    @cached_property
    def token(self) -> str:
        """Of the forms of this page: what is sent twice is done once."""
        return uuid.uuid4().hex


def frame(request: HttpRequest) -> dict:
    """Context processor. A page that failed early has no frame."""
    match = request.resolver_match
    if match is None or getattr(request, "_bare", False):
        return {}
    return {"frame": Frame(request, in_use(request), match.namespace)}
