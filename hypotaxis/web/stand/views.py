"""The stand view's addresses."""

from django.contrib import messages
from django.http import JsonResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from hypotaxis.core.errors import HypotaxisError
from hypotaxis.records.current import in_use
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job
from hypotaxis.web.room.door import door
from hypotaxis.web.stand import acts, chosen
from hypotaxis.web.stand import keys as stand_keys
from hypotaxis.web.stand.shown import shown

LONGEST_KEY = 80


@require_GET
def home(request):
    """The page, with what it shows now; the rest is fetched."""
    request._bare = True
    row = chosen.stand_row()
    session = chosen.stand_session(row)
    context = {
        "now": shown().plain,
        "session": session,
        "sessions": chosen.sessions(),
        "sound": chosen.sound_of_stand(row, session) if session else None,
        "sounds": chosen.sounds_of(session) if session else [],
        "tracks": session.tracks.shown().filter(committed=False) if session else [],
        "open": bool(door.room),
        "may_leave": not request.from_room or door.everything,
        "owner": not request.from_room,
        "theme": request.COOKIES.get("hypotaxis-theme", ""),
    }
    return render(request, "stand/stand.html", context)


@require_GET
def state(request):
    """What it shows now."""
    return JsonResponse(shown().plain)


@require_POST
def act(request):
    """Press a button; what it shows then, with what was done or why not."""
    told, wrong = "", False
    try:
        told = acts.act(request.POST.get("act", ""), request.POST.get("token", ""), about=request.POST.get("about", ""))
    except HypotaxisError as error:
        told, wrong = str(error), True
    return JsonResponse(shown().plain | {"told": told, "told_wrong": wrong})


def keys(request):
    """Which keys of a controller press which button; and, sent, one is learned or forgotten."""
    here = in_use(request)
    if request.method == "POST":
        name = request.POST.get("act", "")
        try:
            if request.POST.get("to") == "forget":
                stand_keys.forget(name)
            elif request.POST.get("to") == "stop":
                if job := stand_keys.learning(here.rig):
                    ask_to_cancel(str(job.uid))
            else:
                stand_keys.learn(here.rig, name, token=request.POST.get("token", ""))
        except HypotaxisError as error:
            messages.error(request, str(error))
        return redirect("stand:keys")
    return render(request, "stand/keys.html", _keys_context(here))


def keys_state(request):
    """The same rows, polled while a key is waited for."""
    context = _keys_context(in_use(request))
    answer = render(request, "stand/includes/key_rows.html", context)
    answer["X-Finished"] = "0" if context["learns"] else "1"
    return answer


def _keys_context(here) -> dict:
    job = stand_keys.learning(here.rig)
    learns = job.request["act"] if job and not job.finished else ""
    trouble = job.message if job and job.state == Job.FAILED else ""
    return {"rows": stand_keys.rows(), "learns": learns, "trouble": trouble, "seconds": round(stand_keys.LEARN_S)}


@require_POST
def choice(request):
    """Choose the session or the sound for everyone; the page comes again."""
    sound, session = request.POST.get("sound"), request.POST.get("session")
    if sound is not None:
        chosen.choose(sound=sound[:LONGEST_KEY])
    if session is not None and any(str(one.uid) == session for one in chosen.sessions()):
        chosen.choose(session=session)
    return redirect("stand:home")
