"""The page of the takes heard together: played in the page, set for the next pass, and made into a file."""

from dataclasses import replace

from django import forms
from django.contrib import messages
from django.http import FileResponse, Http404, JsonResponse
from django.shortcuts import redirect, render
from django.utils.text import slugify

from hypotaxis.core.drawing.levels import level_bar
from hypotaxis.core.errors import BadBars, BadLevel, CannotSchedule
from hypotaxis.core.mixing.desk import AS, CLICKS, LOWEST_DB, OFF, PLACED, Fader
from hypotaxis.core.studio import STAND_IN
from hypotaxis.core.units import FLOOR_DB
from hypotaxis.records.asked import as_uuid, number
from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Track
from hypotaxis.records.served import sound_stream
from hypotaxis.steps.session.services import bouncing, mix_page
from hypotaxis.steps.session.services.mix_page import METER_W, MixPage

WORK = ("bounce", "stop")
CLICK_NAMES = {"off": "no click", "beats": "on the beats", "notes": "on every note"}


class BesideForm(forms.Form):
    """What is heard while a pass is recorded."""

    in_passes = forms.BooleanField(label="Takes play while a pass is recorded", required=False)
    click = forms.ChoiceField(
        label="Click in the pass", choices=[(one, CLICK_NAMES[one]) for one in CLICKS], initial=OFF
    )
    click_db = forms.FloatField(label="Click, dB", min_value=LOWEST_DB, max_value=0, initial=-12)
    through = forms.BooleanField(label="Live returns through the host", required=False)
    left = forms.ChoiceField(label="Left plays on", required=False)
    right = forms.ChoiceField(label="Right plays on", required=False)

    def __init__(self, *args, outputs: list[tuple[str, str]], **kwargs) -> None:
        super().__init__(*args, auto_id="beside_%s", **kwargs)
        for side in ("left", "right"):
            self.fields[side].choices = [("", "no output"), *outputs]

    def clean(self):
        chosen = self.cleaned_data
        plays = chosen.get("in_passes") or chosen.get("through") or chosen.get("click") != OFF
        if plays and not (chosen.get("left") and chosen.get("right")):
            self.add_error("left", "Choose the pair of outputs that you hear.")


class BounceForm(forms.Form):
    """Which bars are made into a file."""

    first_bar = forms.IntegerField(label="From bar", min_value=1)
    last_bar = forms.IntegerField(label="To bar", min_value=1)
    live = forms.BooleanField(required=False)
    fast = forms.BooleanField(label="Stand-in only: faster than real time", required=False)

    def __init__(self, *args, missing: list[str], simulated: bool, **kwargs) -> None:
        super().__init__(*args, auto_id="bounce_%s", **kwargs)
        if missing:
            self.fields["live"].label = f"With live returns: {', '.join(missing)}"
        else:
            del self.fields["live"]
        if not (missing and simulated):
            del self.fields["fast"]


def home(request):
    """The takes together; and, sent, one thing set, or the file asked for."""
    # The worker is told of a file, so that is no part of a transaction that it would not see the end of.
    return _home(request) if request.POST.get("to") in WORK else in_one_go(_home)(request)


def _home(request):
    here, page = _page(request)
    beside, bounce = _forms(request, here, page)
    if request.method == "POST":
        told = _done(request, here, page, beside, bounce)
        if told is not None:
            return redirect("session:mix") if not request.headers.get("X-Soft") else _shown(request, *_page(request))
    return _shown(request, here, page, beside, bounce)


def _page(request) -> tuple[InUse, MixPage]:
    here = in_use(request)
    if here.session is None:
        raise Http404
    here.session.refresh_from_db()
    how = request.GET.get("how", PLACED)
    return here, MixPage(here.session, here.plan, how=how if how in AS else PLACED, click=request.GET.get("click", OFF))


def _forms(request, here: InUse, page: MixPage) -> tuple[BesideForm, BounceForm]:
    to, mixing = request.POST.get("to", ""), page.mixing
    left, right = (*mixing.outputs, "", "")[:2]
    now = {"in_passes": mixing.in_passes, "click": mixing.click, "click_db": mixing.click_db, "through": mixing.through}
    beside = BesideForm(
        request.POST if to == "beside" else None, initial=now | {"left": left, "right": right}, outputs=page.outputs
    )
    bounce = BounceForm(
        request.POST if to == "bounce" else None,
        initial={"first_bar": 1, "last_bar": page.picture.last_bar},
        missing=page.missing,
        simulated=here.plan.studio_kind == STAND_IN,
    )
    return beside, bounce


def _shown(request, here: InUse, page: MixPage, beside: BesideForm | None = None, bounce: BounceForm | None = None):
    if beside is None:
        beside, bounce = _forms(request, here, page)
    job = bouncing.newest(here.session)
    context = {
        "page": page,
        "session": here.session,
        "bars": page.picture.bars(),
        "bar_lines": page.picture.bar_lines(),
        "meter_width": METER_W,
        "no_level": level_bar(FLOOR_DB, FLOOR_DB, False, scale_w=METER_W),
        "beside": beside,
        "bounce": bounce,
        "job": job,
        "made": bouncing.came_of(job) if job else None,
        "beats": page.beats,
    }
    soft = request.headers.get("X-Soft") and request.method == "POST"
    return render(request, f"session/{'includes/mix_parts' if soft else 'mix'}.html", context)


def _done(request, here: InUse, page: MixPage, beside: BesideForm, bounce: BounceForm) -> str | None:
    """Do what is asked for; None where a form is to be shown again."""
    asked, to = request.POST, request.POST.get("to", "")
    session = here.session
    try:
        if to == "beside":
            if not beside.is_valid():
                return None
            _keep_beside(here, page, beside)
            messages.success(request, "Kept. It holds from the next pass on.")
        elif to == "bounce":
            if not bounce.is_valid():
                return None
            wish = bouncing.BounceWish(**bounce.cleaned_data)
            bouncing.start_bounce(session, here.plan, wish, token=asked.get("token", ""))
        elif to == "stop":
            job = bouncing.newest(session)
            if job and not job.finished:
                ask_to_cancel(str(job.uid))
        else:
            _set(session, asked, to)
    except (BadBars, BadLevel, CannotSchedule) as error:
        messages.error(request, str(error))
    return to


def _keep_beside(here: InUse, page: MixPage, form: BesideForm) -> None:
    chosen = form.cleaned_data
    outputs = tuple(filter(None, (chosen.pop("left"), chosen.pop("right"))))
    mix_page.keep(here.session, "What is heard in passes", replace(page.mixing, outputs=outputs, **chosen))


def _set(session, asked, to: str) -> None:
    def change(fader: Fader) -> Fader:
        if to == "mute":
            return replace(fader, muted=not fader.muted)
        if to == "solo":
            return replace(fader, soloed=not fader.soloed)
        level, pan = (number(asked.get(name), kept) for name, kept in (("level", fader.level_db), ("pan", fader.pan)))
        return replace(fader, level_db=round(level, 1), pan=round(pan))

    if name := asked.get("of_group", ""):
        mix_page.set_group(session, name, change)
        return
    track = Track.objects.filter(session=session, uid=as_uuid(asked.get("track", ""))).first()
    if track is None:
        raise BadLevel("That track is gone. Look at the mix anew.")
    if to == "group":
        mix_page.put_in_group(session, track, asked.get("group", ""))
    else:
        mix_page.set_track(session, track, change)


def hear(request):
    """What is heard, as the page plays it."""
    _, page = _page(request)
    first, last = page.mix.span
    return sound_stream(
        request,
        rate=page.mix.rate,
        frames=last - first,
        read=lambda low, high: page.mix.read(first + low, first + high),
    )


def levels(request):
    """The meters of a stretch."""
    _, page = _page(request)
    asked = request.GET
    return JsonResponse(page.levels(number(asked.get("from"), 0.0), number(asked.get("seconds"), 10.0)))


def making(request):
    """How far the file is, polled by the page."""
    here, _ = _page(request)
    job = bouncing.newest(here.session)
    answer = render(request, "session/includes/mix_making.html", {"job": job})
    answer["X-Finished"] = "1" if job is None or job.finished else "0"
    return answer


def file(request):
    """The mix that was made last."""
    here, _ = _page(request)
    job = bouncing.newest(here.session)
    made = bouncing.came_of(job) if job else None
    if made is None:
        raise Http404
    name = f"{slugify(here.session.name) or 'session'}-mix.wav"
    return FileResponse(bouncing.path_of(made).open("rb"), as_attachment=True, filename=name, content_type="audio/wav")
