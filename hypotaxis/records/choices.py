"""A choice among the same options that many fields of a page have: they are written down once for all of them.

A page with a hundred tracks and a hundred instruments has ten thousand options, and Django makes a value of each. Where
they are that many, each field holds what is chosen, and a script gives it the others, which the page holds once.
"""

from collections.abc import Iterable
from functools import cached_property

from django import forms
from django.forms.utils import flatatt
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

APART_FROM = 2_000
"""So many options of a page make it twice as large as what else it shows."""
_OPTION = '<option value="{}">{}</option>'
_CHOSEN = '<option value="{}" selected>{}</option>'


class Options:
    """Values and their words, in order; a value stands once."""

    def __init__(self, pairs: Iterable[tuple[str, str]], fields: int = 1, name: str = "offered") -> None:
        """fields: how many of the page offer them; name: theirs on the page."""
        self.words, self.name = dict(pairs), name
        self.apart = len(self.words) * fields >= APART_FROM
        """Whether the page has to hold them, as `held`."""

    def __contains__(self, value: str) -> bool:
        return value in self.words

    @cached_property
    def _written(self) -> tuple[str, dict[str, tuple[int, int]]]:
        """All of them, none chosen, and where each begins and ends."""
        parts, places, at = [], {}, 0
        for value, words in self.words.items():
            part = format_html(_OPTION, value, words)
            places[value] = at, at + len(part)
            parts.append(part)
            at += len(part)
        return "".join(parts), places

    @property
    def held(self) -> SafeString:
        """What the page holds for the lists that offer them: all, none chosen, where they stand apart."""
        whole = mark_safe(self._written[0])
        return format_html('<template id="{}">{}</template>', self.name, whole) if self.apart else mark_safe("")

    def markup(self, chosen: str, besides: Iterable[tuple[str, str]] = ()) -> SafeString:
        """As a select holds them. besides: pairs that only this one has, behind the others."""
        whole, places = self._written
        if self.apart:
            whole = format_html(_CHOSEN, chosen, self.words[chosen]) if chosen in places else ""
        elif chosen in places:
            begins, ends = places[chosen]
            whole = whole[:begins] + format_html(_CHOSEN, chosen, self.words[chosen]) + whole[ends:]
        more = [format_html(_CHOSEN if one == chosen else _OPTION, one, words) for one, words in besides]
        return mark_safe("".join([whole, *more]))


class SharedSelect(forms.Select):
    """A select of such options."""

    options = Options(())
    besides: tuple[tuple[str, str], ...] = ()

    def render(self, name, value, attrs=None, renderer=None):
        inside = self.options.markup("" if value is None else str(value), self.besides)
        script = {"x-data": "offered", "data-options": self.options.name} if self.options.apart else {}
        given = flatatt(self.build_attrs(self.attrs | script, attrs))
        return format_html('<select name="{}"{}>{}</select>', name, given, inside)


class SharedChoice(forms.Field):
    """A choice that is offered so. Call `offer` before the form is read or shown."""

    widget = SharedSelect
    default_error_messages = forms.ChoiceField.default_error_messages

    def offer(self, options: Options, besides: tuple[tuple[str, str], ...] = ()) -> None:
        """besides: what this field alone offers."""
        self.widget.options, self.widget.besides = options, besides

    @property
    def choices(self) -> list[tuple[str, str]]:
        """What is offered, as any choice tells it."""
        return [*self.widget.options.words.items(), *self.widget.besides]

    def to_python(self, value):
        return "" if value in self.empty_values else str(value)

    def validate(self, value):
        super().validate(value)
        if value and value not in self.widget.options and value not in dict(self.widget.besides):
            raise forms.ValidationError(self.error_messages["invalid_choice"], "invalid_choice", {"value": value})
