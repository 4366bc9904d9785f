"""The page on which a drum machine's voices are given tracks of their own."""

from django import forms
from django.contrib import messages
from django.shortcuts import redirect
from django.urls import reverse

from hypotaxis.core.errors import BadBars
from hypotaxis.records.current import in_one_go, in_use
from hypotaxis.steps.session import views
from hypotaxis.steps.session.services.voices import LONGEST_NAME, VoicesApart
from hypotaxis.steps.session.written import written_track


class VoicesForm(forms.Form):
    """A field a voice: the name of the track that records it."""

    def __init__(self, *args, apart: VoicesApart, **kwargs) -> None:
        super().__init__(*args, auto_id="voice_%s", **kwargs)
        self.voices = {f"voice-{voice.notes[0]}": voice for voice in apart.voices}
        for key, voice in self.voices.items():
            self.fields[key] = forms.CharField(
                label=voice.name, required=False, max_length=LONGEST_NAME // 2, initial=apart.name_now(voice)
            )
        self.apart = apart

    def rows(self) -> list[tuple]:
        """(field, voice, where it comes home)."""
        return [(self[key], voice, self.apart.comes_by(voice)) for key, voice in self.voices.items()]

    def names(self) -> dict[tuple[int, ...], str]:
        """The name of each voice's track by its notes."""
        return {voice.notes: self.cleaned_data[key] for key, voice in self.voices.items()}


@in_one_go
def home(request, uid):
    """The voices of a track; and, sent, taken apart or put together again."""
    here = in_use(request)
    track = written_track(here, uid)
    back = "session:plan" if request.GET.get("back") == "plan" else "session:home"
    try:
        apart = VoicesApart(track, here.plan)
        form = VoicesForm(request.POST or None, apart=apart)
        told = ""
        if request.POST.get("to") == "together":
            told = apart.together_again()
        elif request.method == "POST" and form.is_valid():
            told = apart.take_apart(form.names())
    except BadBars as error:
        messages.error(request, str(error))
        return redirect(reverse("session:part", args=[track.uid]))
    if told:
        messages.success(request, told)
        return redirect(back)
    return views.home(request, sheet="voices", form=form, part=track, apart=apart, back=reverse(back))
