"""Fields of every form wear Bootstrap's classes."""

from django import forms
from django.forms.boundfield import BoundField
from django.forms.renderers import DjangoTemplates

KINDS = (
    # The browser's own ticks keep their contrast by day and by night.
    ((forms.CheckboxInput, forms.CheckboxSelectMultiple, forms.RadioSelect, forms.HiddenInput), ""),
    (forms.Select, "form-select"),
    (forms.Widget, "form-control"),
)
"""The first that a widget is, and its class."""


class Field(BoundField):
    """A field whose widget has the class of its kind, and that of a wrong one where it is wrong."""

    def build_widget_attrs(self, attrs, widget=None):
        attrs = super().build_widget_attrs(attrs, widget)
        widget = widget or self.field.widget
        kind = next(name for kinds, name in KINDS if isinstance(widget, kinds))
        own = widget.attrs.get("class", "")
        classes = " ".join(one for one in (own, kind, "is-invalid" if self.errors else "") if one)
        return attrs | {"class": classes} if classes else attrs


class Renderer(DjangoTemplates):
    """Django's, with those fields."""

    bound_field_class = Field
