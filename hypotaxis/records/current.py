"""Which rig and session is this page about?

A request loads the plan and its findings once; both are kept on it.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property, wraps
from uuid import UUID

from django.db import transaction
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from django.utils.http import url_has_allowed_host_and_scheme

from hypotaxis.core.errors import Gone
from hypotaxis.core.findings.finding import WRONG, Finding
from hypotaxis.core.findings.rules import check_all
from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.build import HOST_NAME, box_from_shape, new_uid
from hypotaxis.core.rig.values import Rig as CoreRig
from hypotaxis.core.studio import Port
from hypotaxis.core.sync.course import Course
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.lateness import Latenesses
from hypotaxis.records.models import Rig, Session, Studio
from hypotaxis.records.plan import load_plan, session_anew, song_of, studio_row
from hypotaxis.records.stamps import kept_while, rows_while
from hypotaxis.records.studio import look

NEW_RIG = "My room"
YEAR_S = 365 * 24 * 3600


def in_one_go(view):
    """Decorate a view that changes a rig or session: what it reads, changes and writes when it is sent to is one
    immediate transaction, so that crossing changes are done one after the other, each on what the other left."""

    @wraps(view)
    def whole(request, *args, **kwargs):
        if request.method != "POST":
            return view(request, *args, **kwargs)
        with transaction.atomic():
            return view(request, *args, **kwargs)

    return whole


@dataclass(frozen=True)
class SessionName:
    """By what a session is chosen: a rig may have hundreds."""

    uid: UUID
    name: str


def session_names(rows: QuerySet[Session], *, of: str) -> Sequence[SessionName]:
    """Those of some sessions, read once as long as no session or rig changes. of: tells these rows from others."""
    names = rows.values_list("uid", "name")
    return kept_while(("takes", "rig"), ("sessions", of), lambda: [SessionName(*row) for row in names])


@dataclass
class InUse:
    """What a page works on: the rig and session in use, and what follows from them."""

    request: HttpRequest

    @cached_property
    def rigs(self) -> list[Rig]:
        found = rows_while(("rig",), "rigs", lambda: list(Rig.objects.filter(template=False, away=False)))
        return found or [make_empty_rig()]

    @cached_property
    def rig(self) -> Rig:
        """The rig that the page shows which asks; otherwise the one that was chosen last, otherwise the newest. Raises
        Gone when the page's rig is gone."""
        return _chosen(self.request, "rig", self.rigs) or self.rigs[-1]

    @cached_property
    def plan(self) -> Plan:
        """The plan with what the studio reports now."""
        plan = load_plan(self.rig)
        return _as_it_stands(plan, look(plan), song_of(self.session) if self.session else None)

    @cached_property
    def studio(self) -> Studio:
        """The studio that this computer uses."""
        return studio_row()

    @cached_property
    def _checked(self) -> tuple[list[Finding], list[tuple[Finding, str]]]:
        return findings_of(self.plan)

    @property
    def findings(self) -> list[Finding]:
        """The findings that stand."""
        return self._checked[0]

    @property
    def meant(self) -> list[tuple[Finding, str]]:
        """The findings that are marked as meant, with their reasons."""
        return self._checked[1]

    @cached_property
    def latenesses(self) -> Latenesses:
        """What is known of the lateness of each trip."""
        return Latenesses(self.plan)

    @cached_property
    def sessions(self) -> Sequence[SessionName]:
        """Those of the rig, the newest first."""
        return session_names(self.rig.sessions.filter(away=False), of=str(self.rig.uid))

    @cached_property
    def session(self) -> Session | None:
        """The session that the page shows which asks; otherwise the one that was chosen last, otherwise the newest;
        None when there is none. Raises Gone when the page's session is gone."""
        one = _chosen(self.request, "session", self.sessions) or next(iter(self.sessions), None)
        if one is None:
            return None
        found = rows_while(("takes",), ("session", str(one.uid)), lambda: session_anew(one.uid))
        if found is not None:
            found.rig = self.rig
        return found

    def findings_about(self, uid: str) -> list[Finding]:
        """The findings that belong to one instrument or box."""
        return [finding for finding in self.findings if finding.concerns(uid)]

    @property
    def wrong(self) -> list[Finding]:
        return [finding for finding in self.findings if finding.severity == WRONG]


def _as_it_stands(plan: Plan, reported: tuple[Port, ...] | None, song: Course | None) -> Plan:
    """The plan with what the studio reports and how the song goes; the last one is kept with the plan."""
    kept = plan.kept[_as_it_stands]
    known = kept.get((reported, song))
    if known is None:
        known = replace(plan, reported=reported, song=song)
        kept.clear()
        kept[reported, song] = known
    return known


@kept_with_it
def findings_of(plan: Plan) -> tuple[list[Finding], list[tuple[Finding, str]]]:
    """(the findings that stand, those that are marked as meant with their reasons). Kept while the rig stays as it is:
    every page tells how many there are."""
    return check_all(plan)


def _chosen(request: HttpRequest, what: str, rows: list):
    """Of some rigs or sessions the one that the asking page shows, as its form or fragment says, otherwise the one that
    was chosen last; None where neither is said. Raises Gone where the page's is gone."""
    uids = {str(row.uid): row for row in rows}
    shown = request.POST.get(f"of_{what}") or request.headers.get(f"X-Of-{what.capitalize()}", "")
    if not shown:
        return uids.get(request.COOKIES.get(f"hypotaxis-{what}", ""))
    if shown not in uids:
        raise Gone(f"The {what} that this page shows is gone. Open the page anew; nothing was changed.")
    return uids[shown]


def remember(answer: HttpResponse, what: str, value: str) -> HttpResponse:
    """The answer, after which the browser goes on with this choice (rig, session, fast) for a year."""
    answer.set_cookie(f"hypotaxis-{what}", value, max_age=YEAR_S, samesite="Strict")
    return answer


def in_use(request: HttpRequest) -> InUse:
    """What this request works on."""
    if not hasattr(request, "_in_use"):
        request._in_use = InUse(request)
    return request._in_use


def make_empty_rig(name: str = NEW_RIG, **settings: int) -> Rig:
    """A rig with nothing in it but the computer; settings: sample_rate and buffer."""
    host = box_from_shape("host", HOST_NAME)
    return import_rig(Plan(rig=CoreRig(uid=new_uid(), name=name, boxes=(host,), **settings)))


def asked_back(request: HttpRequest, otherwise: str) -> str:
    """The address of our own that a form asks to be led back to, in its field "next"."""
    target = request.POST.get("next", "")
    ours = url_has_allowed_host_and_scheme(target, allowed_hosts={request.get_host()})
    # What begins otherwise would be taken for the name of an address.
    return target if ours and target.startswith("/") else otherwise
