"""The page of a track's takes: one below the other, heard in turn, compared, and let stand by bars."""

from django.contrib import messages
from django.http import Http404
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse

from hypotaxis.core.errors import BadBars, NoAnswer, SoundLost
from hypotaxis.core.mixing.sameness import SOUND_DB
from hypotaxis.core.session.arrange import MOST_BARS
from hypotaxis.records.asked import whole
from hypotaxis.records.current import in_one_go, in_use
from hypotaxis.records.models import Track
from hypotaxis.records.served import sound_file
from hypotaxis.steps.session.services.takes_page import (
    DIFFERENCE_DB,
    DIFFERENCE_H,
    TakesPage,
    as_newest,
    compared,
    let_stand,
)


@in_one_go
def home(request, uid):
    """The takes of a track; and, sent, which of them stands where."""
    page = _page(request, uid)
    if request.method == "POST":
        return _done(request, page)
    context = {"page": page, "track": page.track, "session": page.track.session, "bars": page.picture.bars()}
    one, other = page.take(request.GET.get("one", "")), page.take(request.GET.get("other", ""))
    if one and other and one != other:
        try:
            context["compared"] = compared(page, one, other)
        except (NoAnswer, SoundLost) as error:
            context["no_answer"] = str(error)
    context |= {"threshold_y": DIFFERENCE_H * (1 - SOUND_DB / DIFFERENCE_DB), "threshold_db": f"{SOUND_DB:g}"}
    return render(request, "session/takes.html", context | {"one": one, "other": other})


def _done(request, page: TakesPage):
    asked = request.POST
    try:
        if asked.get("to") == "newest":
            told = as_newest(page.track)
        else:
            take = page.take(asked.get("take", ""))
            if take is None:
                raise BadBars("Choose a take first.")
            low, high = take.bars
            bars = whole(asked.get("first_bar"), low, 1, MOST_BARS), whole(asked.get("last_bar"), high, 1, MOST_BARS)
            told = let_stand(page.track, take, *bars)
    except BadBars as error:
        messages.error(request, str(error))
    else:
        messages.success(request, told)
    return redirect(f"{reverse('session:takes', args=[page.track.uid])}?{request.GET.urlencode()}")


def hear(request, uid, take):
    """A take of a track, as loud as the others are heard."""
    page = _page(request, uid)
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


def _page(request, uid) -> TakesPage:
    here = in_use(request)
    track = get_object_or_404(Track.objects.select_related("session__rig"), uid=uid, session=here.session, away=False)
    return TakesPage(track, here.plan)
