"""What may be done to the patterns of a track, by the name that a form gives it; each answers with what is to be told
and where it leads."""

from collections.abc import Callable
from dataclasses import dataclass, replace

from django.http import HttpRequest
from django.shortcuts import get_object_or_404

from hypotaxis.core.drawing.grid import Named
from hypotaxis.core.errors import BadBars
from hypotaxis.core.grid.values import Grid, Pattern, Step, order_of
from hypotaxis.core.session.arrange import MOST_BARS
from hypotaxis.core.session.templates import GRID
from hypotaxis.records import templates
from hypotaxis.records.asked import whole
from hypotaxis.records.current import InUse
from hypotaxis.records.models import Track
from hypotaxis.records.plan import last_bar_of
from hypotaxis.steps.session.grid_forms import BorrowForm, GrowForm, OrderForm, RowForm, StepForm, TableForm
from hypotaxis.steps.session.services import beginning, grids, parts
from hypotaxis.steps.session.services.grid_page import Place

Done = tuple[str, Place]


@dataclass(frozen=True)
class Doing:
    """One thing that is done: to which track, and where its page stands."""

    request: HttpRequest
    here: InUse
    track: Track
    place: Place
    voices: tuple[Named, ...]

    @property
    def note(self) -> int:
        """Of the voice that it is done to."""
        return whole(self.request.POST.get("note"), 0, 0, 127)

    @property
    def at(self) -> int:
        """The step that it is done to, from 0."""
        return whole(self.request.POST.get("place"), 0, 0, 127)

    @property
    def names(self) -> dict[int, str]:
        """Of the voices."""
        return {one.note: one.name for one in self.voices}

    @property
    def pattern(self) -> Pattern:
        """The one that is shown."""
        return grids.grid_of(self.track).pattern(self.place.pattern)

    def change(self, title: str, change: Callable[[Grid], Grid]) -> Grid:
        """Change the patterns as one step of the journal."""
        return grids.change_grid(self.track, title, change)


def _press(doing: Doing) -> Done:
    """Set a step; choose one that is set; take the chosen one away."""
    note, at = doing.note, doing.at
    stood = doing.pattern.row(note).at(at)
    if stood and (doing.place.note, doing.place.step) != (note, at):
        return "", replace(doing.place, note=note, step=at)
    step = None if stood else Step(at)
    return _set_step(doing, note, at, step)


def _clear(doing: Doing) -> Done:
    return _set_step(doing, doing.note, doing.at, None)


def _velocity(doing: Doing) -> Done:
    """Another velocity of a step; one that is not there comes with it."""
    note, at = doing.note, doing.at
    step = doing.pattern.row(note).at(at) or Step(at)
    louder = whole(doing.request.POST.get("velocity"), step.velocity, 1, 127)
    return _set_step(doing, note, at, replace(step, velocity=louder))


def _set_step(doing: Doing, note: int, at: int, step: Step | None) -> Done:
    name = doing.names.get(note, f"note {note}")
    what = f"{name}, step {at + 1} of pattern {doing.place.pattern}"

    def change(grid: Grid) -> Grid:
        pattern = grid.pattern(doing.place.pattern)
        return grid.with_pattern(pattern.with_row(pattern.row(note).with_step(at, step)))

    doing.change(what, change)
    return "", replace(doing.place, note=note, step=at)


def _toggle(field: str):
    def act(doing: Doing) -> Done:
        note = doing.note

        def change(grid: Grid) -> Grid:
            voice = grid.voice(note)
            return grid.with_voice(replace(voice, **{field: not getattr(voice, field)}))

        doing.change(f"{field.capitalize()} {doing.names.get(note, note)}", change)
        return "", doing.place

    return act


def _row(doing: Doing) -> Done:
    """A row's fields."""
    note = doing.note
    form = RowForm(doing.request.POST)
    if not form.is_valid():
        raise BadBars(" ".join(f"{form.fields[name].label}: {text}" for name, (text, *_) in form.errors.items()))
    chosen = form.cleaned_data

    def change(grid: Grid) -> Grid:
        voice = grid.voice(note)
        row = grid.pattern(doing.place.pattern).row(note)
        voiced = {name: chosen[name] for name in ("swing", "shift_ms", "level_db") if chosen[name] is not None}
        rowed = {name: chosen[name] for name in ("a_quarter", "length") if chosen[name] is not None}
        pattern = grid.pattern(doing.place.pattern).with_row(replace(row, **rowed))
        return grid.with_voice(replace(voice, **voiced)).with_pattern(pattern)

    doing.change(f"Row {doing.names.get(note, note)}", change)
    return "", doing.place


def _lay(doing: Doing) -> Done:
    """The pattern that is shown into a bar; out of it where it stands there already."""
    bar = whole(doing.request.POST.get("lay"), 1, 1, MOST_BARS)
    order = grids.grid_of(doing.track).order
    stands = bar <= len(order) and order[bar - 1] == doing.place.pattern
    letter = "" if stands else doing.place.pattern
    doing.change(f"Pattern {letter or 'out of'} bar {bar}", lambda grid: grid.laid(letter, [bar]))
    return "", replace(doing.place, bar=bar)


def _another(doing: Doing) -> Done:
    """An empty pattern more; with `copy` one like that which is shown."""
    copied = doing.request.POST.get("of") == "copy"

    def change(grid: Grid) -> Grid:
        rows = grid.pattern(doing.place.pattern).rows if copied else ()
        return grid.with_pattern(Pattern(grid.free_letter, rows))

    after = doing.change("Copy a pattern" if copied else "A pattern more", change)
    name = after.patterns[-1].name
    return f"Pattern {name} is there. Click the bars that it is to play.", replace(doing.place, pattern=name, note=None)


def _without(doing: Doing) -> Done:
    name = doing.place.pattern
    doing.change(f"Pattern {name} away", lambda grid: grid.without_pattern(name))
    return f"Pattern {name} is gone; undo brings it back.", Place("", doing.place.bar)


def _print(doing: Doing) -> Done:
    return parts.print_notes(doing.track), doing.place


def _switch(doing: Doing) -> Done:
    return grids.switch(doing.track, on=doing.request.POST.get("on") == "1"), doing.place


def _template(doing: Doing) -> Done:
    kept = templates.found(GRID, doing.request.POST.get("template", ""))
    if kept is None:
        raise BadBars("That template is gone. Choose another.")
    told = beginning.lay_grid(doing.track, doing.here.plan, kept.value, kept.name)
    return told, Place("", doing.place.bar)


def _keep_template(doing: Doing) -> Done:
    return beginning.keep_grid(doing.track, doing.here.plan), doing.place


ACTS: dict[str, Callable] = {
    "press": _press,
    "clear": _clear,
    "velocity": _velocity,
    "mute": _toggle("mute"),
    "solo": _toggle("solo"),
    "row": _row,
    "lay": _lay,
    "another": _another,
    "without": _without,
    "print": _print,
    "switch": _switch,
    "template": _template,
    "keep template": _keep_template,
}


# --- what is asked for in a form of its own


def _fields_of_step(doing: Doing, chosen: dict) -> Done:
    at = chosen.pop("place") - 1
    note = doing.place.note
    if note is None:
        raise BadBars("Choose a step first.")
    return _set_step(doing, note, at, Step(at, **chosen))


def _order(doing: Doing, chosen: dict) -> Done:
    bars = last_bar_of(doing.track.session)

    def change(grid: Grid) -> Grid:
        return replace(grid, order=order_of(chosen["order"], bars, grid))

    doing.change(f"Order of patterns of {doing.track.name}", change)
    return "", doing.place


def _grow(doing: Doing, chosen: dict) -> Done:
    notes = [int(one) for one in chosen.pop("voices")]
    return grids.grow(doing.track, doing.place.pattern, notes, **chosen), doing.place


def _borrow(doing: Doing, chosen: dict) -> Done:
    uid, _, letter = chosen["pattern"].partition("/")
    told = grids.borrow(doing.track, doing.here.plan, get_object_or_404(Track, uid=uid), letter)
    return told, Place(grids.grid_of(doing.track).patterns[-1].name, doing.place.bar)


def _take_table(doing: Doing, chosen: dict) -> Done:
    return grids.take_table(doing.track, chosen["table"].read()), Place("", doing.place.bar)


SHEETS: dict[str, tuple[Callable, Callable]] = {
    "step": (lambda doing: StepForm(doing.request.POST), _fields_of_step),
    "order": (lambda doing: OrderForm(doing.request.POST), _order),
    "grow": (lambda doing: GrowForm(doing.request.POST, voices=doing.voices), _grow),
    "borrow": (
        lambda doing: BorrowForm(doing.request.POST, patterns=grids.patterns_of_others(doing.track)),
        _borrow,
    ),
    "table": (lambda doing: TableForm(doing.request.POST, doing.request.FILES), _take_table),
}
