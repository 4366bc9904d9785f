"""What goes into an archive, as a form."""

from collections.abc import Sequence

from django import forms

from hypotaxis.core.errors import BadPattern
from hypotaxis.core.formats.filenames import USUAL, WORDS, check_pattern
from hypotaxis.core.formats.sound import FORMS
from hypotaxis.core.session.handover import ITEMS, SOUNDS, Wish

RATES = (44_100, 48_000, 88_200, 96_000, 176_400, 192_000)
LONGEST_PATTERN = 120


class WishForm(forms.Form):
    """A wish. tracks: (uid, name) of those whose sounds may go in."""

    items = forms.MultipleChoiceField(choices=[(one, one) for one in ITEMS], required=False)
    tracks = forms.MultipleChoiceField(required=False)
    sounds = forms.ChoiceField(label="Which sounds", choices=[(one, one) for one in SOUNDS])
    form = forms.ChoiceField(label="As", choices=[(one, one) for one in FORMS])
    rate = forms.TypedChoiceField(
        label="Sample rate", coerce=int, choices=[(0, "as recorded"), *((one, f"{one} Hz") for one in RATES)]
    )
    pattern = forms.CharField(
        label="Files are named",
        max_length=LONGEST_PATTERN,
        help_text=f"In braces: {', '.join(WORDS)}.",
        error_messages={"required": "The pattern is empty. Write for example {track} {take}."},
    )
    as_set = forms.BooleanField(label="With home trim, gain and polarity as set", required=False)
    whole = forms.BooleanField(label="Takes whole, also where bars are trimmed", required=False)
    fold = forms.BooleanField(label="Mono where one side is silent", required=False)
    packed = forms.BooleanField(label="In the session to open again: takes as FLAC, which is smaller", required=False)

    def __init__(self, *args, tracks: Sequence[tuple[str, str]], **kwargs) -> None:
        super().__init__(*args, auto_id="wish_%s", **kwargs)
        self.fields["tracks"].choices = tracks

    def clean_pattern(self) -> str:
        try:
            return check_pattern(self.cleaned_data["pattern"])
        except BadPattern as error:
            raise forms.ValidationError(str(error)) from error

    @property
    def written(self) -> list[forms.BoundField]:
        """The fields on how the sounds are written."""
        return [self[name] for name in ("sounds", "form", "rate", "as_set", "whole", "fold", "packed", "pattern")]

    def wish(self) -> Wish:
        """What is asked for; every track is the same as none named."""
        chosen = self.cleaned_data
        every = {uid for uid, _ in self.fields["tracks"].choices}
        tracks = () if every <= set(chosen["tracks"]) else tuple(chosen["tracks"])
        return Wish(**chosen | {"tracks": tracks, "items": tuple(one for one in ITEMS if one in chosen["items"])})


def fields_of(wish: Wish) -> dict:
    """A wish as the form is filled with it."""
    plain = {name: getattr(wish, name) for name in ("sounds", "form", "rate", "as_set", "whole", "fold", "packed")}
    return plain | {"pattern": wish.pattern or USUAL, "items": list(wish.items), "tracks": list(wish.tracks)}
