"""Fields of every form wear Bootstrap's classes."""

from html import escape

from django import forms
from django.forms.boundfield import BoundField
from django.forms.renderers import DjangoTemplates
from django.utils.safestring import SafeString, mark_safe

KINDS = (
    # The browser's own ticks keep their contrast by day and by night.
    ((forms.CheckboxInput, forms.CheckboxSelectMultiple, forms.RadioSelect, forms.HiddenInput), ""),
    (forms.Select, "form-select"),
    (forms.Widget, "form-control"),
)
"""The first that a widget is, and its class."""
INPUTS = {one.template_name for one in (forms.TextInput, forms.NumberInput, forms.HiddenInput, forms.CheckboxInput)}
"""Templates that are all Django's one of an input."""


class Field(BoundField):
    """A field whose widget has the class of its kind, and that of a wrong one where it is wrong. One of a form that is
    shown on many pages (`lasting`) is written once."""

    _written: SafeString | None = None

    def __str__(self):
        if not getattr(self.form, "lasting", False):
            return super().__str__()
        if self._written is None:
            self._written = super().__str__()
        return self._written

    __html__ = __str__

    def build_widget_attrs(self, attrs, widget=None):
        attrs = super().build_widget_attrs(attrs, widget)
        widget = widget or self.field.widget
        kind = next(name for kinds, name in KINDS if isinstance(widget, kinds))
        own = widget.attrs.get("class", "")
        classes = " ".join(one for one in (own, kind, "is-invalid" if self.errors else "") if one)
        return attrs | {"class": classes} if classes else attrs


class Renderer(DjangoTemplates):
    """Django's, with those fields; choices and inputs are written here, since some pages have hundreds of inputs, and
    choices with thousands of options."""

    bound_field_class = Field

    def render(self, template_name, context, request=None):
        if template_name == forms.Select.template_name:
            return _select(context["widget"])
        if template_name in INPUTS:
            return _input(context["widget"])
        return super().render(template_name, context, request)


def _input(widget: dict) -> SafeString:
    """As Django's own template writes it."""
    value = "" if widget["value"] is None else f' value="{escape(str(widget["value"]))}"'
    kind, name = escape(widget["type"]), escape(widget["name"])
    return mark_safe(f'<input type="{kind}" name="{name}"{value}{_attributes(widget["attrs"])}>')


def _select(widget: dict) -> SafeString:
    """As Django's own template writes it."""
    parts = []
    for group, options, _ in widget["optgroups"]:
        inside = "".join(map(_option, options))
        parts.append(f'<optgroup label="{escape(str(group))}">{inside}</optgroup>' if group else inside)
    name, attributes = escape(widget["name"]), _attributes(widget["attrs"])
    return mark_safe(f'<select name="{name}"{attributes}>{"".join(parts)}</select>')


def _option(option: dict) -> str:
    value, label = escape(str(option["value"])), escape(str(option["label"]))
    return f'<option value="{value}"{_attributes(option["attrs"])}>{label}</option>'


def _attributes(attrs: dict) -> str:
    set_ones = ((name, value) for name, value in attrs.items() if value is not False)
    return "".join(f" {name}" if value is True else f' {name}="{escape(str(value))}"' for name, value in set_ones)
