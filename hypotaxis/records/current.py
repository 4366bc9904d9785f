"""Which rig and session is this page about?

A request loads the plan and its findings once; both are kept on it.
"""

from dataclasses import dataclass
from functools import cached_property

from django.db import transaction
from django.http import HttpRequest

from hypotaxis.core.findings.finding import WRONG, Finding
from hypotaxis.core.findings.rules import check
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.build import HOST_NAME, box_from_shape
from hypotaxis.core.rig.values import Box
from hypotaxis.records.models import Box as BoxRow
from hypotaxis.records.models import Rig, Session, Socket
from hypotaxis.records.plan import box_fields, load_plan, socket_fields

NEW_RIG = "My room"


@dataclass
class Desk:
    """What a page works on."""

    request: HttpRequest

    @cached_property
    def rigs(self) -> list[Rig]:
        return list(Rig.objects.all()) or [make_empty_rig()]

    @cached_property
    def rig(self) -> Rig:
        """The chosen rig, otherwise the newest."""
        chosen = self.request.COOKIES.get("hypotaxis-rig", "")
        return next((rig for rig in self.rigs if str(rig.uid) == chosen), self.rigs[-1])

    @cached_property
    def plan(self) -> Plan:
        return load_plan(self.rig)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        return check(self.plan)

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


@transaction.atomic
def make_empty_rig(name: str = NEW_RIG, **settings: int) -> Rig:
    """A rig with nothing in it but the computer; settings: sample_rate and buffer."""
    rig = Rig.objects.create(name=name, **settings)
    store_box(rig, box_from_shape("host", HOST_NAME))
    return rig


def store_box(rig: Rig, box: Box) -> None:
    """Store a box that no one can take back: the computer, and what an import brings."""
    row = BoxRow.objects.create(uid=box.uid, **box_fields(box, str(rig.uid)))
    Socket.objects.bulk_create(
        Socket(uid=item.uid, **socket_fields(item, str(row.uid), number)) for number, item in enumerate(box.sockets)
    )
