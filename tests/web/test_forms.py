"""What our renderer writes by hand is what Django's templates write."""

import re

from django import forms
from django.forms.renderers import DjangoTemplates
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.records.choices import APART_FROM, Options, SharedChoice
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

    @given(OPTIONS, OPTIONS, st.one_of(st.none(), st.text("a&<\"'é", max_size=3)))
    def test_a_choice_that_many_fields_share(self, options, besides, value):
        shared = dict(options)
        own = {key: words for key, words in besides if key not in shared}
        ours, theirs = (
            SharedChoice(required=False),
            forms.ChoiceField(choices=[*(shared | own).items()], required=False),
        )
        ours.offer(Options(shared.items()), tuple(own.items()))
        self.assertEqual(ours.choices, theirs.choices)
        written = (one.widget.render("name", value, {"id": "x"}, DjangoTemplates()) for one in (ours, theirs))
        self.assertHTMLEqual(*written)
        for sent in (value, *shared, *own):
            self.assertEqual(*(self.taken(one, sent) for one in (ours, theirs)))

    def test_many_options_stand_once_on_the_page_and_each_field_has_its_own(self):
        pairs = [(str(number), f"box {number}") for number in range(APART_FROM // 10)]
        held = {}
        for fields in (1, 10):
            options = Options(pairs, fields)
            field = SharedChoice()
            field.offer(options, (("gone", "one that is gone"),))
            held[fields] = field.widget.render("name", "7", {"id": "x"})
            self.assertEqual((field.clean("9"), options.held.count("<option")), ("9", 0 if fields == 1 else len(pairs)))
        self.assertNotIn("x-data", held[1])
        self.assertHTMLEqual(
            held[10],
            '<select name="name" x-data="offered" data-options="offered" id="x">'
            '<option value="7" selected>box 7</option><option value="gone">one that is gone</option></select>',
        )

    def taken(self, field: forms.Field, sent: str | None) -> str:
        try:
            return field.clean(sent)
        except forms.ValidationError as error:
            return str(error.messages)
