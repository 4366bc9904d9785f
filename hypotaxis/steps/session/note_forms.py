"""Forms of a track's notes."""

from dataclasses import asdict

from django import forms

from hypotaxis.core.errors import BadBars
from hypotaxis.core.grid.values import HIGHEST_SEED
from hypotaxis.core.midi.scales import NAMES, SCALES
from hypotaxis.core.session.arrange import beat_tick
from hypotaxis.core.session.generators import (
    ARPEGGIO,
    KINDS,
    MOST_OCTAVES,
    ORDERS,
    STACKS,
    VELOCITIES,
    Generator,
)
from hypotaxis.core.session.straighten import DIVISIONS, LEAST_SWING, MOST_SWING
from hypotaxis.core.session.tempo import TempoMap


class Told(forms.Form):
    """A form whose faults are told in one sentence."""

    @property
    def told(self) -> str:
        """What is wrong with it."""
        return " ".join(f"{self.fields[name].label}: {texts[0]}" for name, texts in self.errors.items())


class ChosenForm(Told):
    """What is done to the chosen notes by numbers."""

    steps = forms.IntegerField(label="Steps up, − down", min_value=-84, max_value=84, initial=2, required=False)
    scale = forms.ChoiceField(label="In the scale", choices=[(one, one) for one in SCALES], initial="all notes")
    root = forms.ChoiceField(label="Of", choices=[(str(place), name) for place, name in enumerate(NAMES)])
    velocity = forms.IntegerField(label="Velocity set to", min_value=1, max_value=127, required=False)
    share = forms.FloatField(label="or to so many %", min_value=1, max_value=1000, initial=100, required=False)
    strength = forms.IntegerField(label="Strength, %", min_value=0, max_value=100, initial=100, required=False)


class AddForm(Told):
    """A note by numbers."""

    bar = forms.IntegerField(label="Bar", min_value=1)
    beat = forms.IntegerField(label="Beat", min_value=1, initial=1)
    sixteenth = forms.IntegerField(label="Sixteenth", min_value=1, max_value=16, initial=1)
    note = forms.IntegerField(label="Note 0–127", min_value=0, max_value=127, initial=60)
    velocity = forms.IntegerField(label="Velocity", min_value=1, max_value=127, initial=100)

    def note_at(self, tempo: TempoMap, last_bar: int) -> int:
        """The tick of its place. Raises BadBars where there is no such place."""
        bar, beat = self.cleaned_data["bar"], self.cleaned_data["beat"]
        tick = beat_tick(tempo, last_bar, bar, beat)
        tick += (self.cleaned_data["sixteenth"] - 1) * tempo.ticks_per_quarter // 4
        if tick >= tempo.bar_tick(bar + 1):
            raise BadBars(f"Bar {bar} ends before that sixteenth.")
        return tick

    def made(self, tempo: TempoMap, last_bar: int, step_ticks: float) -> tuple[int, int, int, int]:
        """(tick, duration, note, velocity). Raises BadBars."""
        chosen = self.cleaned_data
        return self.note_at(tempo, last_bar), max(1, round(step_ticks)), chosen["note"], chosen["velocity"]


class GeneratorForm(Told):
    """What a generator makes of a part's notes."""

    kind = forms.ChoiceField(label="Generator", choices=list(KINDS.items()), initial=ARPEGGIO)
    division = forms.ChoiceField(label="Step", choices=[(one, one) for one in DIVISIONS], initial="1/16")
    order = forms.ChoiceField(label="Order", choices=[(one, one) for one in ORDERS], help_text="Of an arpeggio.")
    octaves = forms.IntegerField(label="Range, octaves", min_value=1, max_value=MOST_OCTAVES, initial=1)
    gate = forms.FloatField(label="Length, % of a step", min_value=5, max_value=100, initial=50)
    swing = forms.FloatField(label="Swing, %", min_value=LEAST_SWING, max_value=MOST_SWING, initial=50)
    velocity = forms.ChoiceField(label="Velocity", choices=list(VELOCITIES.items()))
    fixed = forms.IntegerField(label="the same: 1–127", min_value=1, max_value=127, initial=100)
    stack = forms.ChoiceField(label="Chord", choices=[(one, one) for one in STACKS], help_text="Of chords.")
    scale = forms.ChoiceField(label="In the scale", choices=[(one, one) for one in SCALES], initial="major")
    root = forms.ChoiceField(label="Of", choices=[(str(place), name) for place, name in enumerate(NAMES)])
    seed = forms.IntegerField(label="Seed of chance", min_value=0, max_value=HIGHEST_SEED, initial=1)

    def how(self) -> Generator:
        """What is asked for. Raises BadBars."""
        chosen = self.cleaned_data
        return Generator(**chosen | {"gate": chosen["gate"] / 100, "root": int(chosen["root"])})

    @staticmethod
    def initial_of(how: Generator | None) -> dict:
        """Its fields for a generator that there is."""
        return asdict(how) | {"gate": how.gate * 100, "root": str(how.root)} if how else {}
