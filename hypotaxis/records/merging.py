"""Forms that know from which state they were made, so that two windows don't undo each other's changes.

A form carries what its fields held when it was shown. When it comes back, each field is compared three ways: what the
person left alone takes what stands now; what only they changed is theirs; what both changed is told, field by field,
and what was typed is kept.
"""

import json
from functools import cached_property
from typing import Any

from django import forms
from django.utils.html import format_html
from django.utils.safestring import SafeString

MOST_STATE = 1_000_000
"""Characters of a state that are read; a longer one is none of ours."""
_LONGEST_TOLD = 60


class Merged(forms.BaseForm):
    """Mixed into a form whose initial values are those that stand now. Put `{{ form.state }}` into its markup; what
    comes without it is taken as typed."""

    of_new = False
    """Set by the view where what the form asks for is not there yet: its initial values are proposals, and no state."""
    as_one = False
    """Rows that belong together, such as a table that is sorted: then not single fields are merged, and any change is
    told."""

    @cached_property
    def state(self) -> SafeString:
        """What stands now, as a hidden field; nothing of what is new."""
        if self.of_new:
            return SafeString("")
        held = json.dumps(self._now(), ensure_ascii=False)
        return format_html('<input type="hidden" name="{}" value="{}">', self.add_prefix("was"), held)

    def full_clean(self) -> None:
        """Check, then compare with what stood when the form was shown and what stands now."""
        super().full_clean()
        was = self._was() if self.is_bound else None
        if was is None or not hasattr(self, "cleaned_data"):
            return
        now = self._now()
        changed = {name for name in now if name in was and self.fields[name].has_changed(now[name], was[name])}
        typed = {name for name in now if self._differs(name, was.get(name))}
        if self.as_one:
            if changed and typed:
                self.add_error(None, self._told_as_one(sorted(changed)))
            return
        for name in changed:
            if name not in typed:
                self._take(name, now[name])
            elif self._differs(name, now[name]):
                self.add_error(name, self._told(name, now[name]))

    def _now(self) -> dict[str, Any]:
        found = {}
        for name, field in self.fields.items():
            if not isinstance(field, forms.FileField):
                value = field.prepare_value(self.get_initial_for_field(field, name))
                found[name] = list(value) if isinstance(value, tuple) else value
        return found

    def _was(self) -> dict[str, Any] | None:
        text = self.data.get(self.add_prefix("was"), "")
        if self.of_new or not text or len(text) > MOST_STATE:
            return None
        try:
            found = json.loads(text)
        except ValueError:
            return None
        return found if isinstance(found, dict) else None

    def _differs(self, name: str, value: Any) -> bool:
        """Whether what came for a field is another value than this one."""
        field = self.fields[name]
        came = field.widget.value_from_datadict(self.data, self.files, self.add_prefix(name))
        return field.has_changed(value, came)

    def _take(self, name: str, value: Any) -> None:
        """Let a field hold what stands now, as if it had been sent: also where the form is shown once more."""
        try:
            self.cleaned_data[name] = self.fields[name].clean(value)
        except forms.ValidationError:
            return
        self.errors.pop(name, None)
        self.data, key = self.data.copy(), self.add_prefix(name)
        if value is False:
            self.data.pop(key, None)
        elif isinstance(value, list):
            self.data.setlist(key, value)
        else:
            self.data[key] = "on" if value is True else "" if value is None else value

    def _told(self, name: str, now: Any) -> str:
        return (
            f"Changed meanwhile, in another window, to “{self._words(name, now)}”. What you typed is kept: send it "
            "again to let it stand, or take over the other."
        )

    def _told_as_one(self, names: list[str]) -> str:
        labels = ", ".join(str(self.fields[name].label or name) for name in names[:4])
        return (
            f"This was changed meanwhile, in another window ({labels}{' …' if len(names) > 4 else ''}). What you typed "
            "is kept: send it again to let all of it stand, or open the page anew to see the other."
        )

    def _words(self, name: str, value: Any) -> str:
        """A value as the person sees it."""
        choices = {str(key): str(words) for key, words in getattr(self.fields[name], "choices", ())}
        if isinstance(value, bool):
            return "on" if value else "off"
        told = choices.get(str(value), "empty" if value in (None, "") else str(value))
        return told if len(told) <= _LONGEST_TOLD else f"{told[:_LONGEST_TOLD]}…"
