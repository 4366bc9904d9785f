"""The page of recall: what stands otherwise than when the takes were made, and what makes the session sound again."""

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.text import slugify

from hypotaxis.core.errors import BadDump, CannotSchedule, DoesNotFit
from hypotaxis.core.midi.dumps import MOST_BYTES
from hypotaxis.core.studio import STAND_IN
from hypotaxis.records import jobs
from hypotaxis.records.asked import as_uuid
from hypotaxis.records.current import in_one_go, in_use
from hypotaxis.records.line_checks import last_check
from hypotaxis.records.models import Dump, Job, Take
from hypotaxis.steps.session.services import dumping, recalling
from hypotaxis.steps.session.services.dumping import Memory
from hypotaxis.steps.session.services.recalling import RecallPage

ALL = "all"
"""Asked to be put back: everything that can be."""


@in_one_go
def home(request):
    """What differs, and what to do; sent, one or all of it put back, or what is done ticked."""
    page = _page(request)
    if request.method == "POST":
        return _done(request, page)
    context = {"page": page, "session": page.session, "simulated": page.plan.studio_kind == STAND_IN}
    context["last_check"] = last_check(page.session.rig)
    if asked := request.GET.get("show", ""):
        rows = _asked(page, asked)
        if not rows:
            messages.info(request, "That stands as it stood already.")
            return redirect(_address(page))
        try:
            context |= {"preview": page.preview(rows), "asked": asked}
        except DoesNotFit as error:
            messages.error(request, f"It cannot be put back as it was. {error}")
            return redirect(_address(page))
    return render(request, "session/recall.html", context)


def _done(request, page: RecallPage):
    if request.POST.get("to") == "tick":
        page.tick(set(request.POST.getlist("done")))
        return redirect(_address(page))
    # What was shown is what is done: of what has changed meanwhile nothing.
    rows = [row for slug in request.POST.getlist("shown") for row in _asked(page, slug)]
    try:
        if not rows:
            messages.info(request, "That stands as it stood already. Nothing was changed.")
        else:
            messages.success(request, page.put_back(rows))
    except DoesNotFit as error:
        messages.error(request, f"It cannot be put back as it was. {error}")
    return redirect(_address(page))


def _asked(page: RecallPage, slug: str) -> list:
    if slug == ALL:
        return page.may_go_back
    row = page.row(slug)
    return [row] if row and row.may_go_back else []


def check(request, uid):
    """Play a few bars of a take again, or stop that; and, polled, how far it is."""
    page = _page(request)
    if request.method != "POST":
        # Whether it stands is not asked: while it is played again, what comes may stand for a moment.
        get_object_or_404(Take, uid=uid, session=page.session)
        job = jobs.newest(recalling.KIND, str(uid))
        answer = render(request, "session/includes/recall_check.html", {"job": job})
        answer["X-Finished"] = "1" if job is None or job.finished else "0"
        return answer
    take = next((row.take for row in page.checks if row.take.uid == uid), None)
    if take is None:
        raise Http404
    try:
        if request.POST.get("to") == "stop":
            _stop(take)
        else:
            fast = request.POST.get("fast") == "on" and page.plan.studio_kind == STAND_IN
            recalling.start_check(page, take, fast=fast, token=request.POST.get("token", ""))
    except CannotSchedule as error:
        messages.error(request, str(error))
    return redirect(f"{_address(page)}#checks")


def _stop(take: Take) -> None:
    job = jobs.newest(recalling.KIND, str(take.uid))
    if job and not job.finished:
        jobs.ask_to_cancel(str(job.uid))
        for run in take.session.passes.filter(job__state__in=Job.UNFINISHED):
            jobs.ask_to_cancel(str(run.job_id))


def memory(request, uid):
    """Receive a box's memory, send one back, read one from a file, or stop; and, polled, how far it is."""
    page = _page(request)
    row = next((one for one in page.memories if one.box.uid == str(uid)), None)
    if row is None:
        raise Http404
    if request.method != "POST":
        answer = render(request, "session/includes/recall_memory.html", {"memory": row, "job": row.job})
        answer["X-Finished"] = "0" if row.running else "1"
        return answer
    try:
        if told := _with_memory(request, page, row):
            messages.success(request, told)
    except (CannotSchedule, BadDump) as error:
        messages.error(request, str(error))
    return redirect(f"{_address(page)}#memories")


def _with_memory(request, page: RecallPage, row: Memory) -> str:
    to = request.POST.get("to", "")
    if to == "stop":
        if row.running:
            jobs.ask_to_cancel(str(row.job.uid))
    elif to == "file":
        sent = request.FILES.get("dump")
        if sent is None:
            raise BadDump("Choose a .syx file first.")
        return dumping.keep_file(page.session, row.box, sent.read(MOST_BYTES + 1))
    elif to == "gone":
        page.session.dumps.filter(uid=as_uuid(request.POST.get("dump", ""))).delete()
        return "The dump is gone."
    elif to in dumping.ACTS:
        fast = request.POST.get("fast") == "on" and page.plan.studio_kind == STAND_IN
        wish = dumping.Wish(to, row.box.uid, request.POST.get("dump", ""), fast)
        dumping.start(page.session, page.plan, wish, token=request.POST.get("token", ""))
    return ""


def dump(request, uid):
    """A dump as a file."""
    kept = get_object_or_404(Dump, uid=uid)
    answer = HttpResponse(bytes(kept.data), content_type="application/octet-stream")
    name = "-".join(slugify(one) or "untitled" for one in (kept.session.name, kept.box_name))
    answer["Content-Disposition"] = f'attachment; filename="{name[:100]}.syx"'
    return answer


def _address(page: RecallPage) -> str:
    return f"{reverse('session:recall')}{'?takes=all' if page.every else ''}"


def _page(request) -> RecallPage:
    here = in_use(request)
    if here.session is None:
        raise Http404
    return RecallPage(here.session, here.plan, every=request.GET.get("takes") == "all")
