"""The page of one part: what its notes are, and what is done to them."""

from urllib.parse import urlencode

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.utils.text import slugify

from hypotaxis.core.errors import BadBars, CannotSchedule
from hypotaxis.core.midi.scales import note_name
from hypotaxis.records.current import in_one_go, in_use
from hypotaxis.records.plan import last_bar_of, notes_of, part_of
from hypotaxis.steps.session import views
from hypotaxis.steps.session.forms import ChangeForm, StraightenForm
from hypotaxis.steps.session.note_forms import GeneratorForm
from hypotaxis.steps.session.services import parts
from hypotaxis.steps.session.services.checking import amiss_in
from hypotaxis.steps.session.services.grids import names_of
from hypotaxis.steps.session.services.grooves import grooves_for, with_groove
from hypotaxis.steps.session.written import check_open, written_track

CHANGES = ("change", "remove")
ACTS = {
    "played": parts.as_played,
    "undouble": parts.undouble,
    "print": parts.print_notes,
    "written": parts.stop_generating,
}


@in_one_go
def part(request, uid):
    """A part, opened."""
    here = in_use(request)
    track = written_track(here, uid)
    to = request.POST.get("to", "")
    usual = {
        name: request.GET[name] for name in ("division", "strength", "swing", "window", "groove") if name in request.GET
    }
    grooves = grooves_for(track)
    form = StraightenForm(request.POST if to == "straighten" else None, initial=usual, grooves=grooves)
    change = ChangeForm(request.POST if to in CHANGES else None, initial={"last_bar": last_bar_of(here.session)})
    made = part_of(track)
    generator = GeneratorForm(
        request.POST if to == "generate" else None, initial=GeneratorForm.initial_of(made.generator), auto_id="made_%s"
    )
    try:
        told = ""
        if request.method == "POST":
            check_open(track)
        if to in ACTS:
            told = ACTS[to](track)
        elif form.is_bound and form.is_valid():
            told = parts.straighten(track, with_groove(track, form.how(), form.cleaned_data["groove"]))
        elif change.is_bound and change.is_valid():
            told = parts.change(track, change.how(remove=to == "remove"))
        elif generator.is_bound and generator.is_valid():
            told = parts.generate(track, generator.how())
    except (BadBars, CannotSchedule) as error:
        messages.error(request, str(error))
        return redirect("session:part", uid=uid)
    if told:
        messages.success(request, told)
        # What was tried last stands in the form for the next try.
        tried = f"?{urlencode(form.cleaned_data)}" if form.is_bound else ""
        return redirect(f"{reverse('session:part', args=[uid])}{tried}")
    notes = notes_of(track)
    instrument = here.plan.instrument(track.instrument_uid)
    middle_c = instrument.middle_c if instrument else 4
    amiss = amiss_in(track, here.plan, notes)
    lowest, highest = (note_name(int(find(notes["note"])), middle_c) for find in (min, max)) if len(notes) else ("", "")
    return views.home(
        request,
        sheet="part",
        form=form,
        part=track,
        notes=len(notes),
        patterned=made.grid is not None and made.grid.on and bool(made.grid.order),
        generating=made.generator if made.generator and made.generator.on else None,
        generator_form=generator,
        reach=lowest if lowest == highest else f"{lowest} to {highest}",
        amiss=amiss,
        change=change,
        doubled=parts.doubled_in(track),
        voiced=bool(names_of(instrument)),
    )


def file(request, uid):
    """A part alone as a Standard MIDI File."""
    track = written_track(in_use(request), uid)
    answer = HttpResponse(parts.file_of(track), content_type="audio/midi")
    name = "-".join(slugify(one) or "untitled" for one in (track.session.name, track.name))
    answer["Content-Disposition"] = f'attachment; filename="{name[:100]}.mid"'
    return answer
