"""Forms of the session."""

from pathlib import PurePath

from django import forms

from hypotaxis.core.formats.smf import MAX_BYTES
from hypotaxis.core.plan import Plan
from hypotaxis.records.models import Track


class ScoreForm(forms.Form):
    """A MIDI file to import."""

    score = forms.FileField(
        label="Standard MIDI File (.mid)",
        help_text="Type 0 or 1. Tempo and meter changes are kept; a track with several channels is split by channel.",
        error_messages={
            "required": "Choose a file first.",
            "empty": "The file is empty. Export it again from where it was made.",
        },
    )
    name = forms.CharField(label="Name of the session", max_length=80, required=False, help_text="Empty: the file’s.")

    def clean_score(self):
        upload = self.cleaned_data["score"]
        if upload.size > MAX_BYTES:
            raise forms.ValidationError(
                f"The file has {upload.size / 2**20:.0f} MB; scores up to {MAX_BYTES // 2**20} MB are read. "
                "Is it an audio file?"
            )
        return upload

    def session_name(self) -> str:
        """The given name, otherwise the file's without its ending."""
        return self.cleaned_data["name"].strip() or PurePath(self.cleaned_data["score"].name).stem or "Untitled"


class TrackForm(forms.ModelForm):
    """A track's instrument, program and arming. The program is shown as the wire counts it, 0–127."""

    instrument_uid = forms.ChoiceField(label="Instrument", required=False)
    program = forms.IntegerField(label="Program 0–127", min_value=0, max_value=127, required=False)

    class Meta:
        model = Track
        fields = ["instrument_uid", "program", "armed"]

    def __init__(self, *args, plan: Plan, **kwargs) -> None:
        super().__init__(*args, prefix=str(kwargs["instance"].uid), **kwargs)
        choices = [("", "no instrument")]
        for one in plan.instruments:
            choices.append((one.uid, one.name))
            choices += [(f"{one.uid}/{part.uid}", f"{one.name}: {part.name}") for part in one.parts]
        kept = self.instance.instrument_uid
        self.initial["instrument_uid"] = f"{kept}/{self.instance.part_uid}" if self.instance.part_uid else kept
        if self.initial["instrument_uid"] not in dict(choices):
            choices.append((self.initial["instrument_uid"], "an instrument or part that is gone"))
        self.fields["instrument_uid"].choices = choices

    def clean_instrument_uid(self) -> str:
        """The instrument; the part is kept beside it."""
        uid, _, self.instance.part_uid = self.cleaned_data["instrument_uid"].partition("/")
        return uid

    def save(self, commit: bool = True):
        """A program typed by hand is no longer the patch that was picked, and belongs to no bank."""
        if "program" in self.changed_data:
            self.instance.patch_uid, self.instance.msb, self.instance.lsb = "", None, None
        return super().save(commit)


class PassForm(forms.Form):
    """What a pass records."""

    first_bar = forms.IntegerField(label="from bar", min_value=1)
    last_bar = forms.IntegerField(label="to bar", min_value=1)
    fast = forms.BooleanField(required=False)
    place = forms.BooleanField(required=False)
