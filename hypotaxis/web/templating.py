"""What templates can say besides Jinja's own: addresses, static files, the pieces of web/pieces.html, and Django's
filters of numbers, dates and words.

A name that is not there is empty, as are its parts: a sheet that is not open has no form to show.
"""

from datetime import datetime
from functools import lru_cache

from django.http import HttpRequest
from django.template import defaultfilters
from django.template.backends.utils import csrf_input
from django.templatetags.static import static
from django.urls import reverse
from django.utils.functional import SimpleLazyObject
from django.utils.html import json_script
from django.utils.timezone import template_localtime
from jinja2 import ChainableUndefined, Environment

FILTERS = ("capfirst", "floatformat", "linebreaksbr", "pluralize", "truncatechars", "urlencode", "yesno")
"""Of Django's, under their names."""
ADDRESSES = 4096
"""Kept: they stay as long as the program runs."""


def environment(**options) -> Environment:
    """As Django's backend asks for it."""
    made = Environment(**options | {"undefined": ChainableUndefined})
    made.globals |= {"static": static, "url": url}
    made.filters |= {name: getattr(defaultfilters, name) for name in FILTERS}
    made.filters |= {"date": date, "json_script": json_script}
    pieces = made.get_template("web/pieces.html").module
    made.globals |= {"labelled": pieces.labelled, "sign": pieces.sign}
    return made


@lru_cache(ADDRESSES)
def url(name: str, *parts, **named) -> str:
    """The address of a page; a large rig's page has a thousand."""
    return reverse(name, args=parts, kwargs=named)


def csrf(request: HttpRequest) -> dict:
    """Context processor: the field of forms against requests from elsewhere, made once a page, which may have a
    hundred forms."""
    return {"csrf_input": SimpleLazyObject(lambda: csrf_input(request))}


def date(moment: datetime | None, form: str) -> str:
    """A moment in the computer's own time, in Django's form; empty where there is none."""
    return defaultfilters.date(template_localtime(moment), form)
