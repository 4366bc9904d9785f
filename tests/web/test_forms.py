"""What our renderer writes by hand is what Django's templates write."""

import re

from django import forms
from django.forms.renderers import DjangoTemplates
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.web.forms import INPUTS, Renderer

VALUES = st.one_of(st.none(), st.integers(), st.booleans(), st.text(max_size=12))
ATTRIBUTES = st.dictionaries(st.sampled_from(("id", "class", "required", "min", "title")), VALUES, max_size=4)
INPUT = st.sampled_from((forms.TextInput, forms.NumberInput, forms.HiddenInput, forms.CheckboxInput))
OPTIONS = st.lists(st.tuples(st.text("a&<\"'é", max_size=5), st.text("b&<\"'é", max_size=5)), max_size=4)


def tidy(markup: str) -> str:
    """Without the spaces between tags, which no browser shows."""
    return re.sub(r">\s+<", "><", markup).strip()


class WrittenTest(SimpleTestCase):
    def assert_alike(self, widget: forms.Widget, value, attrs: dict) -> None:
        context = widget.get_context("a name & more", value, attrs)
        ours, theirs = (one.render(widget.template_name, context) for one in (Renderer(), DjangoTemplates()))
        self.assertEqual(tidy(ours), tidy(theirs))

    @given(INPUT, VALUES, ATTRIBUTES)
    def test_an_input(self, kind, value, attrs):
        self.assertIn(kind.template_name, INPUTS)
        self.assert_alike(kind(), value, attrs)

    @given(OPTIONS, OPTIONS, VALUES, ATTRIBUTES)
    def test_a_choice_with_groups(self, options, grouped, value, attrs):
        self.assert_alike(forms.Select(choices=[*options, ("a group <", grouped)]), value, attrs)
