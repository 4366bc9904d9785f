"""Which rig and session is this page about?

A request loads the plan and its findings once; both are kept on it.
"""

from dataclasses import dataclass, replace
from functools import cached_property

from django.http import HttpRequest

from hypotaxis.core.findings.finding import WRONG, Finding
from hypotaxis.core.findings.rules import check_all
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.build import HOST_NAME, box_from_shape, new_uid
from hypotaxis.core.rig.values import Rig as CoreRig
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.lateness import KnownLateness, known_latenesses
from hypotaxis.records.models import Rig, Session
from hypotaxis.records.plan import load_plan
from hypotaxis.records.studio import look

NEW_RIG = "My room"


@dataclass
class Desk:
    """What a page works on."""

    request: HttpRequest

    @cached_property
    def rigs(self) -> list[Rig]:
        return list(Rig.objects.filter(template=False)) or [make_empty_rig()]

    @cached_property
    def rig(self) -> Rig:
        """The chosen rig, otherwise the newest."""
        chosen = self.request.COOKIES.get("hypotaxis-rig", "")
        return next((rig for rig in self.rigs if str(rig.uid) == chosen), self.rigs[-1])

    @cached_property
    def plan(self) -> Plan:
        """The plan with what the studio reports now."""
        plan = load_plan(self.rig)
        return replace(plan, reported=look(plan))

    @cached_property
    def _checked(self) -> tuple[list[Finding], list[tuple[Finding, str]]]:
        return check_all(self.plan)

    @property
    def findings(self) -> list[Finding]:
        """The findings that stand."""
        return self._checked[0]

    @property
    def meant(self) -> list[tuple[Finding, str]]:
        """The findings that are marked as meant, with their reasons."""
        return self._checked[1]

    @cached_property
    def latenesses(self) -> dict[str, KnownLateness]:
        """What is known of each trip's lateness, by the uid of its instrument or effect loop."""
        return known_latenesses(self.plan)

    @cached_property
    def sessions(self) -> list[Session]:
        return list(self.rig.sessions.all())

    @cached_property
    def session(self) -> Session | None:
        """The chosen session, otherwise the newest; None when there is none."""
        chosen = self.request.COOKIES.get("hypotaxis-session", "")
        return next((s for s in self.sessions if str(s.uid) == chosen), next(iter(self.sessions), None))

    def findings_about(self, uid: str) -> list[Finding]:
        """The findings that belong to one instrument or box."""
        return [finding for finding in self.findings if finding.concerns(uid)]

    @property
    def wrong(self) -> list[Finding]:
        return [finding for finding in self.findings if finding.severity == WRONG]


def desk(request: HttpRequest) -> Desk:
    """The desk of a request."""
    if not hasattr(request, "_desk"):
        request._desk = Desk(request)
    return request._desk


def make_empty_rig(name: str = NEW_RIG, **settings: int) -> Rig:
    """A rig with nothing in it but the computer; settings: sample_rate and buffer."""
    host = box_from_shape("host", HOST_NAME)
    return import_rig(Plan(rig=CoreRig(uid=new_uid(), name=name, boxes=(host,), **settings)))
