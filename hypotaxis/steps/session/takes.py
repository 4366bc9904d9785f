"""The page of a track's takes: one below the other, heard in turn, compared, and let stand by bars."""

from urllib.parse import urlencode

from django.contrib import messages
from django.http import Http404
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse

from hypotaxis.core.errors import BadBars, BadLevel, CannotSchedule, NoAnswer
from hypotaxis.core.mixing.sameness import SOUND_DB
from hypotaxis.core.session.arrange import MOST_BARS
from hypotaxis.core.units import counted
from hypotaxis.records import housekeeping
from hypotaxis.records.asked import number, whole
from hypotaxis.records.current import in_one_go, in_use
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job, Take, Track
from hypotaxis.records.served import sound_file
from hypotaxis.steps.session.services import comparing
from hypotaxis.steps.session.services.committing import commit, take_back
from hypotaxis.steps.session.services.comparing import DIFFERENCE_DB, DIFFERENCE_H
from hypotaxis.steps.session.services.takes_page import TakesPage, as_newest, lay_along, let_stand, set_take

WHOLE = {"every", "one"}
"""What asks for every take, also those that are not listed at first: to see them, or to see two of them compared."""


@in_one_go
def home(request, uid):
    """The takes of a track; and, sent, which of them stands where."""
    page = _page(request, uid)
    if request.method == "POST":
        return _done(request, page)
    room = housekeeping.megabytes(housekeeping.audio_of(_going(page)))
    context = {
        "going": len(page.may_go),
        "room": f"{room:.1f}",
        "page": page,
        "track": page.track,
        "session": page.track.session,
        "bars": page.picture.bars(),
        "bar_lines": page.picture.bar_lines(numbered=False),
    }
    one, other = page.take(request.GET.get("one", "")), page.take(request.GET.get("other", ""))
    if one and other and one != other and (job := comparing.job_of(page.track, one, other)):
        context |= {"job": job, "compared": comparing.came_of(page, job, one, other)}
    context |= {"threshold_y": DIFFERENCE_H * (1 - SOUND_DB / DIFFERENCE_DB), "threshold_db": f"{SOUND_DB:g}"}
    return render(request, "session/takes.html", context | {"one": one, "other": other})


def _done(request, page: TakesPage):
    asked = request.POST
    try:
        if asked.get("to") == "newest":
            told = as_newest(page.track)
        elif asked.get("to") in ("set", "lay"):
            told = _set_or_lay(page, asked)
        elif asked.get("to") == "clear":
            told = _put_away(page)
        elif asked.get("to") == "commit":
            told = commit(page.track, page.plan)
        elif asked.get("to") == "take back":
            told = take_back(page.track)
        elif asked.get("to") == "compare":
            return _compare(request, page)
        elif asked.get("to") == "stop":
            for job in Job.objects.filter(kind=comparing.KIND, about=str(page.track.uid), state__in=Job.UNFINISHED):
                ask_to_cancel(str(job.uid))
            told = "Stopped. Nothing was compared."
        else:
            take = page.take(asked.get("take", ""))
            if take is None:
                raise BadBars("Choose a take first.")
            low, high = take.bars
            bars = whole(asked.get("first_bar"), low, 1, MOST_BARS), whole(asked.get("last_bar"), high, 1, MOST_BARS)
            told = let_stand(page.track, take, *bars)
    except (BadBars, BadLevel, CannotSchedule) as error:
        messages.error(request, str(error))
    else:
        messages.success(request, told)
    return redirect(f"{reverse('session:takes', args=[page.track.uid])}?{request.GET.urlencode()}")


def _set_or_lay(page: TakesPage, asked) -> str:
    take = page.take(asked.get("take", ""))
    if take is None:
        raise BadBars("Choose a take first.")
    low, high = take.bars
    bars = whole(asked.get("first_bar"), low, 1, MOST_BARS), whole(asked.get("last_bar"), high, 1, MOST_BARS)
    if asked["to"] == "lay":
        at, times = whole(asked.get("at_bar"), high + 1, 1, MOST_BARS), whole(asked.get("times"), 1, 1, MOST_BARS)
        return lay_along(page.track, take, *bars, at, times)
    turned = asked.get("inverted") == "on"
    gain = number(asked.get("gain_db"), take.gain_db)
    return set_take(take, gain_db=gain, inverted=turned, first_bar=bars[0], last_bar=bars[1])


def _put_away(page: TakesPage) -> str:
    """Put away what does not stand; from there it can be brought back, or thrown away for good."""
    going = _going(page)
    Take.objects.filter(uid__in=page.may_go).update(kept=False)
    room = housekeeping.megabytes(housekeeping.audio_of(going))
    told = f"{counted(len(going), 'take')} put away, {room:.1f} MB: below the takes of Session they can be brought back"
    return f"{told}, or thrown away for good."


def _going(page: TakesPage) -> list[Take]:
    """The takes that do not stand anywhere, as far as their files are asked for."""
    return list(Take.objects.filter(uid__in=page.may_go).only("uid", "file", "fitted"))


def _compare(request, page: TakesPage):
    """Let two takes be compared, and show the page on which that is told."""
    one, other = (page.take(request.POST.get(name, "")) for name in ("one", "other"))
    if one is None or other is None or one == other:
        raise BadBars("Choose two takes to compare.")
    try:
        comparing.ask(page.track, one, other)
    except NoAnswer as error:
        messages.error(request, str(error))
    address = reverse("session:takes", args=[page.track.uid])
    return redirect(f"{address}?{urlencode({'one': one.uid, 'other': other.uid})}")


def compared(request, uid):
    """How far it is, polled by the page."""
    track = _page(request, uid).track
    job = Job.objects.filter(kind=comparing.KIND, about=str(track.uid)).last()
    answer = render(request, "session/includes/takes_comparing.html", {"job": job})
    answer["X-Finished"] = "1" if job is None or job.finished else "0"
    return answer


def hear(request, uid, take):
    """A take of a track, as loud as the others are heard."""
    page = _page(request, uid, every=True)
    found = page.take(str(take))
    if found is None:
        raise Http404
    return sound_file(request, page.sound.heard(found))


def stands(request, uid):
    """What stands of a track, joined."""
    page = _page(request, uid)
    if not page.sound.stretches:
        raise Http404
    return sound_file(request, page.sound.as_it_stands())


def _page(request, uid, *, every: bool = False) -> TakesPage:
    here = in_use(request)
    track = get_object_or_404(Track.objects.select_related("session__rig"), uid=uid, session=here.session, away=False)
    return TakesPage(track, here.plan, every=every or request.method == "POST" or bool(WHOLE & request.GET.keys()))
