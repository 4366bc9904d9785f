"""The session's pages: notes said, sound answered; passes and takes."""

from collections.abc import Iterable, Mapping, Sequence
from uuid import UUID

from django.contrib import messages
from django.http import Http404, HttpResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.glass import DEFAULT_SPAN, SPANS_MS, ticks, zooms
from hypotaxis.core.drawing.levels import WIDTH
from hypotaxis.core.errors import BadBars, CannotSchedule, NoAnswer, UnreadableFile
from hypotaxis.core.session.passes import leader_of
from hypotaxis.core.session.templates import SESSION
from hypotaxis.core.units import counted, signed
from hypotaxis.records import housekeeping, templates
from hypotaxis.records.asked import LISTED, number, one_line, whole
from hypotaxis.records.choices import Options
from hypotaxis.records.current import InUse, asked_back, in_one_go, in_use, remember
from hypotaxis.records.jobs import ask_to_cancel
from hypotaxis.records.models import Job, Pass, Session, Take, Track
from hypotaxis.records.served import sound_file
from hypotaxis.records.under_way import played_in
from hypotaxis.steps.session.forms import (
    EFFECT,
    BarsForm,
    EffectTrackForm,
    JoinForm,
    NewSessionForm,
    NewTrackForm,
    PassForm,
    ScoreForm,
    TrackForm,
    seats_of,
    shown_form,
)
from hypotaxis.steps.session.running import running_context
from hypotaxis.steps.session.services import arranging, beginning, importing, joining, placing, recording
from hypotaxis.steps.session.services.barline import bars_sheet
from hypotaxis.steps.session.services.before_pass import Ready, ready_for
from hypotaxis.steps.session.services.house import KINDS, OWNED_BY, copy_session, house_of
from hypotaxis.steps.session.services.listening import glued
from hypotaxis.steps.session.services.picture import Picture
from hypotaxis.steps.session.services.playing_state import playing_context
from hypotaxis.steps.session.services.recalling import changed_since

MOST_LISTED = 10_000
NOBODY_LEADS = "No box leads any more, so a pass can only begin at once. Say on the Rig step who leads."


def home(request, forms: Mapping[UUID, TrackForm] | None = None, **sheet):
    """The session: tracks with their strips, the glass, the takes. forms: of tracks (uid) whose fields were refused."""
    here = in_use(request)
    if here.session is None:
        return render(request, "session/home.html", {"sheet": None} | sheet)
    picture = _picture(request, here, LISTED)
    run = picture.run
    latest = picture.latest
    drawn = picture.tracks()
    for track in drawn:
        track.draw_sound()
    leader = leader_of(here.plan)
    seats = seats_of(here.plan, len(picture.rows))
    settings = _pass_settings(request, here.session, picture.last_bar)
    form = PassForm(initial=settings, leader=leader.name if leader else "", plan=here.plan)
    context = {
        "session": here.session,
        "otherwise": 0 if run else changed_since(here.session, here.plan),
        "picture": picture,
        "tracks": drawn,
        "seats": seats,
        "fields": _fields(seats, picture.rows) | (forms or {}),
        "takes": picture.take_views(here.latenesses.known),
        "bars": picture.bars(),
        "bar_lines": picture.bar_lines(),
        "marks": picture.marks(),
        "run": run,
        "trouble": latest if latest and latest.job.state in (Job.INTERRUPTED, Job.FAILED) else None,
        "measured": picture.measured,
        "pass_form": form,
        "how_told": any(
            str(settings[name]) != str(usual) for name, usual in recording.PASS_DEFAULTS.items() if "bar" not in name
        )
        or settings["until_stop"],
        "leader": leader,
        "broken_off": recording.reached_bar(latest) if latest and not run and not latest.accepted else None,
        "latest": latest,
        "ready": None if run else _ready(here, picture, settings),
        "track_form": NewTrackForm(plan=here.plan),
        "armed": sum(track.armed and not track.committed for track in picture.rows),
        "meter_width": WIDTH,
        "sheet": None,
    }
    context |= _glass_context(picture)
    if run:
        context |= running_context(run)
    elif played := played_in(here.session):
        context |= playing_context(played)
    return render(request, "session/home.html", context | sheet)


def _fields(seats: Options, rows: Sequence[Track], sent: QueryDict | None = None) -> dict[UUID, TrackForm]:
    """A form for each track, by uid. seats: what they can play; sent: what came of them."""

    def form(one: Track) -> TrackForm:
        if one.loop_uid:
            return EffectTrackForm(sent, track=one, seats=seats, others=rows)
        return shown_form(one, seats) if sent is None else TrackForm(sent, track=one, seats=seats)

    return {one.uid: form(one) for one in rows}


def _ready(here: InUse, picture: Picture, settings: dict) -> Ready | None:
    last = picture.last_bar
    bars = {name: whole(str(settings[name]), usual, 1, last) for name, usual in (("first_bar", 1), ("last_bar", last))}
    return ready_for(here, picture.rows, **bars)


def _pass_settings(request, session: Session, last_bar: int) -> dict:
    """What the next pass is offered with: as it was typed last for this session, otherwise all bars, placed."""
    fast = request.COOKIES.get("hypotaxis-fast") == "1"
    return recording.settings_of(session, last_bar, fast=fast, asked=request.GET)


@require_POST
def settings(request):
    """Keep what is typed for the next pass, whatever it is: it is still there after arming a track, or elsewhere."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    recording.keep_settings(here.session, request.POST)
    return HttpResponse(status=204)


def new(request):
    """A session from nothing."""
    here = in_use(request)
    names = set(here.rig.sessions.values_list("name", flat=True))
    free = next(name for name in (f"Session {number}" for number in range(1, 10_000)) if name not in names)
    form = NewSessionForm(request.POST or None, initial={"name": free})
    kept = templates.found(SESSION, request.POST.get("template", ""))
    if kept:
        return _begun_with(here, kept, request)
    if request.method == "POST" and form.is_valid():
        chosen = form.cleaned_data
        try:
            made = arranging.new_session(
                here.rig, here.plan, form.piece(), name=chosen["name"], tracks=chosen["tracks"]
            )
        except BadBars as error:
            form.add_error(None, str(error))
        else:
            messages.success(request, f"{made.name} has {counted(chosen['bars'], 'bar')} and no notes yet.")
            return remember(redirect("session:home"), "session", str(made.uid))
    return home(request, sheet="new", form=form, templates=templates.of_kind(SESSION))


def _begun_with(here: InUse, kept: templates.Kept, request):
    """A session as a template has it."""
    name = one_line(request.POST.get("name")) or kept.name
    made = beginning.begin_session(here.rig, here.plan, kept.value, name)
    open_ends = beginning.open_ends(made, kept.value)
    told = f" Nothing plays {', '.join(open_ends)} here: choose it on the tracks." if open_ends else ""
    messages.success(request, f"{made.name} is as {kept.name} was kept, without takes.{told}")
    return remember(redirect("session:home"), "session", str(made.uid))


@in_one_go
def bars(request):
    """Tempo, meter and sections along the bars; length and pace of all of it."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    form = BarsForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        piece = arranging.piece_of(here.session)
        try:
            told, after = form.change(piece)
        except BadBars as error:
            form.add_error(None, str(error))
        else:
            arranging.arrange(here.session, told, after)
            messages.success(request, f"{told}.")
            return redirect(f"{reverse('session:bars')}?bar={min(form.cleaned_data['bar'], after.bars)}")
    return home(request, sheet="bars", form=form, sheet_bars=bars_sheet(here.session, form, request.GET.get("bar", "")))


@require_POST
def join(request):
    """A file that is to be brought into the session: it is held, and looked at first."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    form = ScoreForm(request.POST, request.FILES)
    if form.is_valid():
        upload = form.cleaned_data["score"]
        try:
            return redirect("session:joining", file=joining.hold(upload.read()))
        except UnreadableFile as error:
            form.add_error("score", f"{upload.name} was not read. {error}")
    return home(request, sheet="import", form=form)


@in_one_go
def joining_file(request, file):
    """Where the parts of a file go; and, sent, in they come."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    module = request.GET.get("module", "")
    try:
        coming = joining.coming(here.session, here.plan, joining.held(file), module)
    except CannotSchedule as error:
        messages.error(request, str(error))
        return redirect("session:import")
    form = JoinForm(request.POST or None, plan=here.plan, tracks=here.session.tracks.written(), coming=coming)
    if request.method == "POST" and form.is_valid():
        chosen = form.cleaned_data
        try:
            told = joining.bring_in(
                here.session, here.plan, file, form.where(), bar=chosen["bar"], rules=chosen["rules"]
            )
        except (BadBars, CannotSchedule) as error:
            form.add_error(None, str(error))
        else:
            messages.success(request, told)
            return redirect("session:home")
    modules = [one for one in here.plan.instruments if one.parts]
    return home(request, sheet="joining", form=form, file=file, modules=modules, module=module)


@require_POST
@in_one_go
def new_track(request):
    """Add a track without notes."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    form = NewTrackForm(request.POST, plan=here.plan)
    if not form.is_valid():
        messages.error(request, "That instrument is gone. Choose another for the new track.")
    else:
        seat = form.cleaned_data["seat"]
        if seat.startswith(EFFECT):
            track = arranging.add_effect(here.session, here.plan.loop(seat.removeprefix(EFFECT)))
            messages.success(request, f"{track.name} is there. Choose what is sent through it.")
        else:
            uid, _, part = seat.partition("/")
            track = arranging.add_track(here.session, here.plan.instrument(uid), part)
            messages.success(request, f"{track.name} is there, without notes.")
    return redirect("session:home")


def glass(request):
    """The glass alone, fetched when it is zoomed or moved."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    picture = _picture(request, here)
    context = {"picture": picture, "tracks": picture.tracks()} | _glass_context(picture)
    return render(request, "session/includes/glass.html", context)


def import_file(request):
    """Import a MIDI file."""
    here = in_use(request)
    form = ScoreForm(request.POST or None, request.FILES or None)
    if request.method == "POST" and form.is_valid():
        title, data = form.cleaned_data["score"].name, form.cleaned_data["score"].read()
        if len(data) > importing.AT_ONCE_BYTES:
            token = request.POST.get("token", "")
            job = importing.start_import(here.rig, data, name=form.session_name(), title=title, token=token)
            return redirect("session:importing", job=job.uid)
        try:
            session, score = importing.import_score(here.rig, data, name=form.session_name())
        except UnreadableFile as error:
            form.add_error("score", f"{title} was not imported. {error}")
        else:
            return _imported(request, str(session.uid), importing.told_of(session, score))
    return home(request, sheet="import", form=form)


def importing_file(request, job):
    """A large file on its way in; leads to the session, or to the reason why there is none."""
    row = _import_of(job)
    if row.state == Job.DONE:
        return _imported(request, row.result["session"], row.result["told"])
    if row.finished:
        reason = row.message or "It was stopped, and nothing was imported."
        messages.error(request, f"{row.request['title']} was not imported. {reason}")
        return redirect("session:import")
    return home(request, sheet="importing", import_job=row, import_done=round(row.progress * 100))


def importing_state(request, job):
    """State of an import, polled by the page."""
    row = _import_of(job)
    context = {"import_job": row, "import_done": round(row.progress * 100)}
    answer = render(request, "session/includes/importing.html", context)
    answer["X-Finished"] = "1" if row.finished else "0"
    return answer


@require_POST
def importing_cancel(request, job):
    """Stop an import; nothing of it is kept."""
    ask_to_cancel(str(_import_of(job).uid))
    return redirect("session:importing", job=job)


def _import_of(job) -> Job:
    return get_object_or_404(Job, uid=job, kind="import")


def _imported(request, session_uid: str, told: str):
    messages.success(request, told)
    return remember(redirect("session:home"), "session", session_uid)


@require_POST
@in_one_go
def tracks(request):
    """Keep the tracks' instruments, programs and arming."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    wrong = {}
    rows = list(here.session.tracks.shown())
    for uid, form in _fields(seats_of(here.plan, len(rows)), rows, request.POST).items():
        if form.is_valid():
            form.save()
        else:
            wrong[uid] = form
            for error in (error for errors in form.errors.values() for error in errors):
                messages.error(request, f"{form.track.name}: {error} The rest is kept.")
    if wrong:
        # What was typed stays in its field.
        return home(request, forms=wrong)
    return redirect(f"{reverse('session:home')}?{request.META.get('QUERY_STRING', '')}")


@require_POST
def send_sounds(request):
    """Call up the sound of every track again."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    try:
        job = recording.send_sounds(here.session, here.plan, token=request.POST.get("token", ""))
    except CannotSchedule as error:
        messages.error(request, str(error))
    else:
        job.refresh_from_db()
        told = len(job.request["messages"])
        if job.state == Job.FAILED:
            messages.error(request, job.message)
        else:
            messages.success(
                request, f"{told} message{'s' if told > 1 else ''} go out: the sounds of all tracks, again."
            )
    return redirect(asked_back(request, reverse("session:home")))


@require_POST
def start(request):
    """Record a pass."""
    here = in_use(request)
    if here.session is None:
        raise Http404
    leader = leader_of(here.plan)
    form = PassForm(request.POST, leader=leader.name if leader else "", plan=here.plan)
    back = reverse("session:home")
    if not form.is_valid():
        told = "Choose the bars to record: whole numbers from 1; times and bars run in up to 999, counted in up to 16."
        gone = "The cable for the click beside it is gone. Choose another, or none."
        messages.error(request, NOBODY_LEADS if "led" in form.errors else gone if "reference" in form.errors else told)
        return redirect(back)
    chosen = form.cleaned_data
    recording.keep_settings(here.session, request.POST)
    try:
        run = recording.start_pass(here.session, here.plan, **form.asked(), token=request.POST.get("token", ""))
    except CannotSchedule as error:
        messages.error(request, str(error))
    else:
        if run.job.finished:
            # The same page sent it before.
            messages.info(request, f"The same page had asked for pass {run.number} already, and it is recorded.")
    answer = redirect(f"{back}?first_bar={chosen['first_bar']}&last_bar={chosen['last_bar']}")
    return remember(answer, "fast", "1" if chosen["fast"] else "0")


def running(request, uid):
    """State of a pass, polled by the page."""
    run = get_object_or_404(Pass.objects.select_related("job"), uid=uid)
    answer = render(request, "session/includes/running.html", running_context(run))
    answer["X-Finished"] = "1" if run.job.finished else "0"
    return answer


@require_POST
def cancel(request, uid):
    """Stop a pass; what was recorded is kept."""
    run = get_object_or_404(Pass, uid=uid)
    ask_to_cancel(str(run.job_id))
    return redirect("session:home")


@require_POST
@in_one_go
def accept(request, uid):
    """Let a pass stand as it is: what is doubtful of it, too."""
    run = get_object_or_404(Pass, uid=uid, session=in_use(request).session)
    messages.success(request, recording.accept_pass(run))
    return redirect("session:home")


@require_POST
def repeat(request, uid):
    """Record a pass again."""
    run = get_object_or_404(Pass.objects.select_related("session__rig"), uid=uid)
    try:
        recording.repeat_pass(run, token=request.POST.get("token", ""))
    except CannotSchedule as error:
        messages.error(request, str(error))
    return redirect("session:home")


@require_POST
@in_one_go
def lay_tempo(request, uid):
    """Let the session have the tempo at which a pass was played."""
    run = get_object_or_404(Pass.objects.select_related("session"), uid=uid, session=in_use(request).session)
    messages.success(request, arranging.lay_tempo(run))
    return redirect(f"{reverse('session:home')}?{request.META.get('QUERY_STRING', '')}")


def measuring(request, uid):
    """State of the measuring of a pass's takes, polled by the page, with those that have been measured since it asked
    last."""
    run = get_object_or_404(Pass.objects.select_related("measuring"), uid=uid)
    here, measured = in_use(request), recording.measured_state(run)
    context = {"measured": measured}
    if measured.running and here.session and here.session.uid == run.session_id:
        context |= _since(request, here, measured)
    answer = render(request, "session/includes/measuring.html", context)
    answer["X-Finished"] = "0" if measured.running else "1"
    answer["X-State"] = measured.state
    return answer


def _since(request, here: InUse, measured: recording.Measured) -> dict:
    """The takes that the page does not know as measured, and the strips of their tracks."""
    held = request.headers.get("X-State", "").split(",")
    new = [uid for name, uid in measured.ready.items() if name not in held]
    if not new:
        return {}
    picture = _picture(request, here, more=new)
    takes, known = picture.these(new), here.latenesses.known
    return {
        "picture": picture,
        "bar_lines": picture.bar_lines(),
        "new_strips": picture.tracks(only={take.track_id for take in takes}),
        "new_takes": [picture.take_view(take, known.get(take.instrument_uid)) for take in takes],
    }


@require_POST
def measure(request, uid):
    """Measure those takes of a pass that have no answer, or stop measuring them."""
    run = get_object_or_404(Pass.objects.select_related("measuring"), uid=uid)
    if request.POST.get("to") != "stop":
        recording.ask_to_measure(run)
    elif run.measuring:
        ask_to_cancel(str(run.measuring_id))
    return redirect("session:home")


@require_POST
def keep(request, uid):
    """Put a take away, so that the one before it sounds again, or bring it back."""
    take = get_object_or_404(Take, uid=uid)
    take.kept = request.POST.get("to") == "back"
    take.save(update_fields=["kept"])
    told = "is back" if take.kept else "is put away; below the takes it can be brought back"
    messages.info(request, f"Take {take.number} {told}.")
    return redirect(f"{reverse('session:home')}?{request.META.get('QUERY_STRING', '')}")


def sessions(request):
    """Housekeeping: sessions and tracks to rename, copy, put away, bring back or throw away."""
    return home(request, sheet="sessions", house=house_of(in_use(request)))


@require_POST
@in_one_go
def tidy(request, kind, uid):
    """Rename, copy, put away, bring back or throw away a session or a track."""
    here = in_use(request)
    if kind not in KINDS:
        raise Http404
    row = get_object_or_404(KINDS[kind], uid=uid, **{OWNED_BY[kind]: here.rig.uid})
    to = request.POST.get("to", "")
    answer = redirect("session:sessions")
    if to == "rename":
        name = one_line(request.POST.get("name"))
        if not name:
            messages.error(request, f"{row.name} keeps its name: a name needs a letter.")
        else:
            row.name = name
            row.save(update_fields=["name"])
    elif to == "template" and kind == "session":
        messages.success(request, beginning.keep_session(row, here.plan))
    elif to == "copy" and kind == "session":
        made = copy_session(row)
        messages.success(request, f"{made.name} has the same notes and settings, and no takes.")
        return remember(answer, "session", str(made.uid))
    else:
        try:
            done = housekeeping.tidy(row, to)
        except CannotSchedule as error:
            messages.error(request, str(error))
        else:
            if done:
                messages.success(request, done)
    return answer


@require_POST
def throw_take_away(request, uid):
    """Throw a take that is put away away for good."""
    take = get_object_or_404(Take, uid=uid, kept=False)
    housekeeping.throw_take_away(take)
    messages.success(request, f"Take {take.number} is gone.")
    return redirect(f"{reverse('session:home')}?{request.META.get('QUERY_STRING', '')}")


@require_POST
def place(request, uid):
    """Let a take stand where its notes stand, or where it arrived."""
    take = get_object_or_404(Take, uid=uid)
    if request.POST.get("to") == "arrived":
        placing.unplace(take)
        messages.info(request, f"Take {take.number} stands where it arrived.")
    elif request.POST.get("to") == "borrowed":
        lender = placing.lender_of(take)
        if lender is None:
            messages.error(request, f"There is no measured take whose lateness take {take.number} could borrow.")
        else:
            placing.place_like(take, lender)
            messages.success(request, f"Take {take.number} is placed by {signed(take.placement, 0)} samples, borrowed.")
    else:
        to = request.POST.get("to")
        try:
            if to == "fitted":
                placing.place_fitted(take)
            elif to == "instrument":
                placing.place_by_instrument(take, in_use(request).plan)
            else:
                placing.place(take)
        except NoAnswer as error:
            messages.error(request, str(error))
        else:
            messages.success(request, f"Take {take.number} is placed by {signed(take.placement, 0)} samples.")
    return redirect(f"{reverse('session:home')}?{request.META.get('QUERY_STRING', '')}")


def listen(request, uid, how):
    """A take with its notes' clicks, placed or as it arrived."""
    take = get_object_or_404(Take.objects.select_related("session", "track", "run__session"), uid=uid)
    return sound_file(request, glued(take, placed=how == "placed"))


def _picture(request, here: InUse, listed: int = 0, more: Iterable[str] = ()) -> Picture:
    query = request.GET
    listed = listed and whole(query.get("takes"), listed, 1, MOST_LISTED)
    span = number(query.get("span"), DEFAULT_SPAN)
    picture = Picture(
        here.session,
        here.plan,
        tick=int(number(query.get("tick"), 0)),
        span_ms=span if span in SPANS_MS else DEFAULT_SPAN,
        offset_ms=max(-2000.0, min(2000.0, number(query.get("offset"), 0.0))),
        listed=listed,
        more=more,
    )
    if "at" in query:
        return Picture(
            here.session,
            here.plan,
            tick=picture.nearest_onset(number(query["at"], 0.0)),
            span_ms=picture.view.span_ms,
            offset_ms=0.0,
            listed=listed,
        )
    return picture


def _glass_context(picture: Picture) -> dict:
    view = picture.view
    before, after = picture.neighbours()
    wider, closer = zooms(view.span_ms)
    same = {"tick": picture.tick, "span": view.span_ms, "offset": view.offset_ms}

    def to(**changes) -> str:
        return "&".join(f"{name}={value:g}" for name, value in (same | changes).items())

    return {
        "glass_ticks": ticks(view),
        "glass_links": {
            "before": to(tick=before, offset=0) if before is not None else "",
            "after": to(tick=after, offset=0) if after is not None else "",
            "wider": to(span=wider) if wider else "",
            "closer": to(span=closer) if closer else "",
            "earlier": to(offset=view.offset_ms - view.span_ms / 3),
            "later": to(offset=view.offset_ms + view.span_ms / 3),
        },
    }
