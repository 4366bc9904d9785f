"""The pages of playing in: what is asked for, how it goes, and what becomes of it."""

from django.contrib import messages
from django.http import Http404
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hypotaxis.core.errors import BadBars, CannotSchedule
from hypotaxis.core.playing.played_in import hands_told
from hypotaxis.core.session.arrange import MOST_BARS
from hypotaxis.records.asked import as_uuid, whole
from hypotaxis.records.current import in_one_go, in_use
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import PlayIn
from hypotaxis.records.plan import last_bar_of
from hypotaxis.steps.session import views
from hypotaxis.steps.session.forms import PlayForm
from hypotaxis.steps.session.services import free_playing, playing_in
from hypotaxis.steps.session.services.playing_state import playing_context


def play_in(request):
    """Play in to a track."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    tracks = list(here.session.tracks.written())
    form = PlayForm(request.POST or None, plan=here.plan, tracks=tracks, last_bar=last_bar_of(here.session))
    if request.method == "POST" and form.is_valid():
        chosen = dict(form.cleaned_data)
        uid = chosen.pop("track")
        track = next(row for row in tracks if str(row.uid) == uid)
        chosen |= {"anew": bool(chosen["anew"]), "fast": chosen.get("fast", False)}
        chosen["times"] = 1 if chosen["times"] is None else chosen["times"]
        try:
            playing_in.start_playing(here.session, here.plan, track, **chosen, token=request.POST.get("token", ""))
        except CannotSchedule as error:
            form.add_error(None, str(error))
        else:
            return redirect("session:home")
    free = next(iter(free_playing.free_now(here.session)), None)
    return views.home(request, sheet="play-in", form=form, free=free, free_bar=1, hands=hands_told(here.plan))


def state(request, uid):
    """How it goes, polled by the page."""
    row = get_object_or_404(PlayIn.objects.select_related("job", "session", "track"), uid=uid)
    answer = render(request, "session/includes/playing.html", playing_context(row))
    answer["X-Finished"] = "1" if row.job.finished and row.laid else "0"
    return answer


@require_POST
def stop(request, uid):
    """Stop it; what was played is kept."""
    ask_to_cancel(str(get_object_or_404(PlayIn, uid=uid).job_id))
    return redirect("session:home")


@require_POST
@in_one_go
def after(request, uid):
    """Let stand what was played, or play it once more."""
    row = get_object_or_404(PlayIn.objects.select_related("session__rig", "track"), uid=uid)
    if request.POST.get("to") == "repeat":
        try:
            playing_in.repeat(row, token=request.POST.get("token", ""))
        except CannotSchedule as error:
            messages.error(request, str(error))
            return redirect("session:home")
    row.accepted = True
    row.save(update_fields=["accepted"])
    return redirect("session:home")


@require_POST
def freely(request):
    """Play without recording, stop that, or fetch back what was played last."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    to, bar = request.POST.get("to", ""), whole(request.POST.get("bar"), 1, 1, MOST_BARS)
    track = here.session.tracks.written().filter(uid=as_uuid(request.POST.get("track", ""))).first()
    running = free_playing.free_now(here.session)
    if to == "stop":
        for row in running:
            ask_to_cancel(str(row.job_id))
        return redirect("session:play-in")
    if track is None:
        messages.error(request, "Choose a track first.")
        return redirect("session:play-in")
    try:
        if to == "fetch":
            messages.success(request, free_playing.fetch_back(here.session, track, bar=bar))
            return redirect("session:home")
        free_playing.start_free(here.session, here.plan, track)
        messages.success(request, f"Your keys sound on {track.name} until you stop it; nothing is recorded.")
    except (BadBars, CannotSchedule) as error:
        messages.error(request, str(error))
    return redirect("session:play-in")
