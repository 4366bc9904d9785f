"""What templates add to Jinja's own: texts are escaped, what is not there is empty, moments are told where they are."""

import html
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from django.template.loader import engines
from django.test import SimpleTestCase
from django.urls import reverse
from django.utils.timezone import override
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.web.templating import FILTERS
from tests.many import pages_of
from tests.web.base import DemoTest

MARKS = ("bound method", "&lt;function", "Undefined", "{{", "{%")
"""What a page would hold where a template names something and does not ask for it."""

UID = "0f0f0f0f-0000-4000-8000-000000000000"


def written(source: str, **context) -> str:
    return engines["jinja2"].from_string(source).render(context)


class WrittenTest(SimpleTestCase):
    @given(st.text("<>&\"'{%}x ", max_size=20))
    def test_no_text_becomes_markup(self, text):
        for source in ("{{ text }}", "{{ text|truncatechars(30) }}", "{{ [text]|join(', ') }}", "{{ text or 'none' }}"):
            shown = written(source, text=text)
            self.assertFalse({*"<>\"'"} & {*shown}, source)
            self.assertEqual(html.unescape(shown), text or ("none" if "or" in source else ""), source)

    def test_what_is_not_there_is_empty_and_so_are_its_parts(self):
        self.assertEqual(
            written("{{ sheet }}{{ sheet.form.title.errors }}{% for one in sheet.rows %}a{% endfor %}"), ""
        )
        self.assertEqual(written("{% if sheet.count %}many{% else %}none{% endif %}"), "none")
        self.assertEqual(written("{{ none.name }}{{ made|date('j M') }}", made=None), "")

    def test_a_moment_is_told_in_the_computers_own_time(self):
        made = datetime(2026, 11, 27, 22, 30, tzinfo=UTC)
        with override(ZoneInfo("Pacific/Auckland")):
            self.assertEqual(written("{{ made|date('j M H:i') }}", made=made), "28 Nov 11:30")

    def test_filters_are_those_of_django(self):
        told = (
            "{{ 2|pluralize }} {{ 2.345|floatformat(1) }} {{ 'a long name'|truncatechars(6) }} {{ true|yesno('a,b') }}"
        )
        self.assertEqual(written(told), "s 2.3 a lon… a")
        self.assertLessEqual({*FILTERS}, {*engines["jinja2"].env.filters})

    def test_the_sign_says_how_many_are_wrong(self):
        self.assertIn('aria-label="3 wrong"', written("{{ sign(3) }}"))
        self.assertIn('aria-label="wrong"', written("{% set number = 4 %}{{ sign() }}"))

    def test_addresses(self):
        self.assertEqual(written("{{ url('rig:home') }}"), reverse("rig:home"))
        self.assertEqual(written("{{ url('session:takes', uid) }}", uid=UID), reverse("session:takes", args=[UID]))

    def test_every_template_can_be_read(self):
        environment = engines["jinja2"].env
        names = environment.list_templates(extensions=["html"])
        self.assertGreater(len(names), 100)
        for name in names:
            environment.get_template(name)


class PagesTest(DemoTest):
    def test_every_page_asks_for_what_it_names(self):
        run = self.record("Bittern", "Alder kit")
        more = {"running": reverse("session:running", args=[run.uid])}
        for name, address in (pages_of(self.rig) | more).items():
            page = self.client.get(address).content.decode()
            for mark in MARKS:
                self.assertNotIn(mark, page, name)
