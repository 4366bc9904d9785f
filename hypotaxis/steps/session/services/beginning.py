"""Sessions, grids and pass plans kept to begin with, and begun with."""

from dataclasses import replace

from hypotaxis.core.errors import BadBars, CannotSchedule
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.templates import (
    GRID,
    PASS_PLAN,
    SESSION,
    GridTemplate,
    PlanTemplate,
    SeatName,
    SessionTemplate,
    grid_for,
    passes_for,
    seats_on,
)
from hypotaxis.core.units import counted
from hypotaxis.records import templates
from hypotaxis.records.models import PassPlan, Rig, Session, Track
from hypotaxis.records.patch_lists import voices_of
from hypotaxis.records.plan import last_bar_of
from hypotaxis.records.session_rows import Seat, archived, store
from hypotaxis.steps.session.services import planning
from hypotaxis.steps.session.services.grids import change_grid, grid_of, names_of


def keep_session(session: Session, plan: Plan) -> str:
    """Keep a session without its takes; what was done, in words."""
    whole = archived(session)
    shown = {str(uid) for uid in session.tracks.shown().values_list("uid", flat=True)}
    tracks = tuple(
        replace(one, chosen=[], committed=False, armed=False, fed_by=one.fed_by if one.fed_by in shown else "")
        for one in whole.tracks
        if one.uid in shown
    )
    bare = replace(whole, rig={}, rigs={}, passes=(), takes=(), tracks=tracks, created="")
    seats = dict.fromkeys((one.instrument_uid, one.part_uid) for one in tracks if one.instrument_uid)
    named = tuple(name for seat in seats if (name := _seat_name(plan, *seat)))
    loops = dict.fromkeys(one.loop_uid for one in tracks if one.loop_uid)
    of_loops = tuple((uid, loop.name) for uid in loops if (loop := plan.loop(uid)))
    templates.keep(SESSION, session.name, SessionTemplate(bare, named, of_loops))
    return f"{session.name} is kept to begin with, without its takes."


def _seat_name(plan: Plan, instrument: str, part: str) -> SeatName | None:
    one = plan.instrument(instrument)
    return SeatName(instrument, part, one.name, one.seat(part).name) if one else None


def begin_session(rig: Rig, plan: Plan, template: SessionTemplate, name: str) -> Session:
    """A session as the template has it, on this rig; what its tracks played and is not here is left open."""
    found = seats_on(plan, template.seats)
    seats = {Seat(*old): Seat(*new) for old, new in found.items()}
    names = {loop.name.casefold(): loop.uid for loop in plan.loops}
    loops = {uid: uid if plan.loop(uid) else names.get(called.casefold(), "") for uid, called in template.loops}
    loops = {old: new for old, new in loops.items() if new}
    return store(replace(template.session, name=name[:80]), rig, seats=seats, loops=loops, files={})


def open_ends(session: Session, template: SessionTemplate) -> list[str]:
    """Names of tracks of a session begun with a template that nothing plays yet."""
    played = {one.name for one in template.session.tracks if one.instrument_uid or one.loop_uid}
    rows = session.tracks.filter(instrument_uid="", loop_uid="", name__in=played)
    return list(rows.values_list("name", flat=True))


def keep_grid(track: Track, plan: Plan) -> str:
    """Keep the patterns of a track; what was done, in words. Raises BadBars where it has none."""
    if not track.grid:
        raise BadBars(f"{track.name} has no patterns yet. Set some steps, then keep them.")
    instrument = plan.instrument(track.instrument_uid)
    ways = {one.uid: one.name for one in instrument.further} if instrument else {}
    voices = voices_of(instrument) if instrument else ()
    apart = tuple((one.name, ways[one.home]) for one in voices if one.home in ways)
    template = GridTemplate(grid_of(track), tuple(names_of(instrument).items()), apart)
    name = f"{track.name}, {track.session.name}"
    templates.keep(GRID, name, template)
    return f"The patterns are kept to begin with, as “{name[:80]}”."


def lay_grid(track: Track, plan: Plan, template: GridTemplate, name: str) -> str:
    """Let a track play a template's patterns, in the place of its own; what was done, in words. Raises BadBars."""
    mine = names_of(plan.instrument(track.instrument_uid))
    laid = grid_for(template, mine, last_bar_of(track.session))
    if not any(pattern.rows for pattern in laid.grid.patterns):
        raise BadBars(f"No voice of “{name}” has a namesake on {track.name}: {', '.join(laid.lost)}.")
    change_grid(track, f"Patterns of {track.name} from {name}", lambda _: laid.grid)
    lost = f" Without a voice here, so left out: {', '.join(laid.lost)}." if laid.lost else ""
    return f"{track.name} plays “{name}”; what it had comes back by undo.{lost}"


def keep_plan(row: PassPlan) -> str:
    """Keep a pass plan; what was done, in words."""
    names = {str(uid): name for uid, name in row.session.tracks.values_list("uid", "name")}
    passes = tuple(tuple(names[uid] for uid in one.tracks if uid in names) for one in row.columns.all())
    templates.keep(PASS_PLAN, row.session.name, PlanTemplate(passes, row.gap_s, row.repeat))
    return f"The pass plan is kept to begin with, as “{row.session.name}”."


def lay_plan(session: Session, plan: Plan, template: PlanTemplate) -> str:
    """Plan the passes of a template with this session's tracks; what was done, in words. Raises CannotSchedule where
    they cannot share passes here, or are none."""
    tracks = {row.name: str(row.uid) for row in session.tracks.shown().filter(committed=False)}
    laid = passes_for(template, tracks)
    if not laid.passes:
        raise CannotSchedule(f"No track here has a name of that plan: {', '.join(laid.lost)}.")
    planning.plan_these(session, plan, laid.passes, gap_s=template.gap_s, repeat=template.repeat)
    lost = f" Not here: {', '.join(laid.lost)}." if laid.lost else ""
    return f"{counted(len(laid.passes), 'pass', 'passes')} planned as they were.{lost}"
