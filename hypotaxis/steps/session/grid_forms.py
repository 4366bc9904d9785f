"""Forms of a track's patterns."""

from collections.abc import Sequence

from django import forms

from hypotaxis.core.drawing.grid import Named
from hypotaxis.core.grid.values import (
    HIGHEST_DB,
    HIGHEST_SEED,
    LONGEST,
    LOUDEST,
    LOWEST_DB,
    MOST_A_QUARTER,
    MOST_REPEATS,
    MOST_SHIFT_MS,
    MOST_STEPS,
    MOST_SWING,
    STRAIGHT,
    Pattern,
)
from hypotaxis.records.models import Track

LARGEST_TABLE = 500_000
"""Bytes."""


class StepForm(forms.Form):
    """One step of a pattern."""

    place = forms.IntegerField(label="Step", min_value=1, max_value=MOST_STEPS)
    velocity = forms.IntegerField(label="Velocity", min_value=1, max_value=LOUDEST, initial=100)
    chance = forms.IntegerField(label="Plays in, %", min_value=0, max_value=100, initial=100)
    length = forms.FloatField(label="Length, steps", min_value=0.05, max_value=LONGEST, initial=0.5)
    repeats = forms.IntegerField(label="Repeats", min_value=1, max_value=MOST_REPEATS, initial=1)


class RowForm(forms.Form):
    """How a voice plays; what is left empty stays."""

    a_quarter = forms.IntegerField(label="Steps a quarter", min_value=1, max_value=MOST_A_QUARTER, required=False)
    length = forms.IntegerField(label="Steps", min_value=0, max_value=MOST_STEPS, required=False)
    swing = forms.FloatField(label="Swing", min_value=STRAIGHT, max_value=MOST_SWING, required=False)
    shift_ms = forms.FloatField(label="Shift", min_value=-MOST_SHIFT_MS, max_value=MOST_SHIFT_MS, required=False)
    level_db = forms.FloatField(label="Level", min_value=LOWEST_DB, max_value=HIGHEST_DB, required=False)


class OrderForm(forms.Form):
    """In which order patterns are laid along the bars."""

    order = forms.CharField(
        label="Order, a letter a bar",
        max_length=10_000,
        required=False,
        help_text="Repeated to the last bar; - is a bar without a pattern.",
    )


class GrowForm(forms.Form):
    """A row grown as a start."""

    density = forms.IntegerField(label="Density, %", min_value=0, max_value=100, initial=30)
    syncopation = forms.IntegerField(label="Syncopation, %", min_value=0, max_value=100, initial=10)
    seed = forms.IntegerField(label="Seed", min_value=0, max_value=HIGHEST_SEED, initial=1)
    voices = forms.MultipleChoiceField(
        label="For", widget=forms.CheckboxSelectMultiple, error_messages={"required": "Choose a voice at least."}
    )

    def __init__(self, *args, voices: Sequence[Named], **kwargs) -> None:
        super().__init__(*args, **kwargs)
        self.fields["voices"].choices = [(str(one.note), one.name) for one in voices]


class BorrowForm(forms.Form):
    """A pattern of another track."""

    pattern = forms.ChoiceField(label="Pattern", error_messages={"required": "Choose a pattern."})

    def __init__(self, *args, patterns: Sequence[tuple[Track, Pattern]], **kwargs) -> None:
        super().__init__(*args, **kwargs)
        self.fields["pattern"].choices = [
            (f"{row.uid}/{one.name}", f"{one.name} of {row.name}, {row.session.name}") for row, one in patterns
        ]


class TableForm(forms.Form):
    """A grid as a table."""

    table = forms.FileField(label="Table (.csv)", error_messages={"required": "Choose a table first."})

    def clean_table(self):
        """Not larger than a grid can be."""
        if self.cleaned_data["table"].size > LARGEST_TABLE:
            raise forms.ValidationError(f"A grid as a table has at most {LARGEST_TABLE // 1000} kB.")
        return self.cleaned_data["table"]
