"""What an opened instrument is made of: its parts, its further returns, its voices."""

from dataclasses import replace

from django.contrib import messages
from django.http import Http404
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.ruler import next_free_channel
from hypotaxis.core.plan import Part, Return
from hypotaxis.core.rig.build import new_uid
from hypotaxis.records.current import in_one_go, in_use
from hypotaxis.records.patch_lists import voices_of
from hypotaxis.steps.instruments.forms import PartForm, ReturnForm, StandingForm, VoicesForm
from hypotaxis.steps.instruments.services import defining, pieces
from hypotaxis.steps.instruments.views.lines import home, instrument_or_404


@in_one_go
def part(request, uid, piece=None):
    """Add a part on the next free channel, or change one."""
    here = in_use(request)
    value = instrument_or_404(here, uid)
    free = next_free_channel(here.plan, value.send) if value.send else value.channel
    proposal = Part(uid=new_uid(), name=f"part {len(value.parts) + 2}", channel=free)
    known = _one_of(value.parts, piece) if piece else proposal
    form = PartForm(request.POST or None, plan=here.plan, instrument=value, part=known)
    form.of_new = piece is None
    if request.method == "POST" and form.is_valid():
        defining.keep_part(here.rig, here.plan, value, replace(known, **form.cleaned_data))
        return redirect("instruments:open", uid=uid)
    title = f"{value.name}: {known.name}" if piece else f"A part of {value.name}"
    return home(request, opened=str(uid), sheet="edit", form=form, title=title, button="Keep")


@in_one_go
def further_return(request, uid, piece=None):
    """Add a further way home, or change one."""
    here = in_use(request)
    value = instrument_or_404(here, uid)
    known = _one_of(value.further, piece) if piece else Return(uid=new_uid(), name="")
    form = ReturnForm(request.POST or None, plan=here.plan, back=known)
    form.of_new = piece is None
    if request.method == "POST" and form.is_valid():
        chosen = form.cleaned_data
        back = replace(known, name=chosen["name"], inputs=form.inputs(), inverted=chosen["inverted"])
        defining.keep_return(here.rig, here.plan, value, back)
        return redirect("instruments:open", uid=uid)
    title = f"{value.name}: {known.name}" if piece else f"A further return of {value.name}"
    return home(request, opened=str(uid), sheet="edit", form=form, title=title, button="Keep")


@require_POST
@in_one_go
def remove(request, uid, piece):
    """Remove a part or a further return."""
    here = in_use(request)
    value = instrument_or_404(here, uid)
    defining.remove_piece(here.rig, here.plan, value, str(piece))
    messages.info(request, "It is removed. Undo brings it back.")
    return redirect("instruments:open", uid=uid)


@require_POST
@in_one_go
def all_parts(request, uid):
    """Keep the instrument as one, with a part for each further part of its box."""
    here = in_use(request)
    value = instrument_or_404(here, uid)
    made = defining.parts_of_box(here.rig, here.plan, value)
    told = f"{made} part{'' if made == 1 else 's'} more, each on a free channel. Undo takes them back."
    messages.success(request, told if made else "No channel is free, or the box has no further part.")
    return redirect("instruments:open", uid=uid)


@in_one_go
def voices(request, uid):
    """The voice table. ?from=NAME: filled in from another map."""
    here = in_use(request)
    value = instrument_or_404(here, uid)
    maps = pieces.maps_to_take_over(here.plan, value)
    chosen = request.GET.get("from", "")
    rows = maps.get(chosen) or voices_of(value)
    form = VoicesForm(request.POST or None, instrument=value, rows=rows)
    if request.method == "POST" and form.is_valid():
        defining.keep_voices(here.rig, here.plan, value, form.voices())
        return redirect("instruments:open", uid=uid)
    title = f"{value.name}: voices"
    return home(request, opened=str(uid), sheet="voices", form=form, title=title, maps=list(maps), chosen=chosen)


@in_one_go
def standing(request, uid):
    """Lines from which the instrument is always played."""
    here = in_use(request)
    value = instrument_or_404(here, uid)
    form = StandingForm(request.POST or None, plan=here.plan, instrument=value)
    if request.method == "POST" and form.is_valid():
        defining.keep(here.rig, here.plan, replace(value, standing=form.lines()))
        return redirect("instruments:open", uid=uid)
    title = f"{value.name}: standing lines"
    return home(request, opened=str(uid), sheet="edit", form=form, title=title, button="Keep")


def _one_of(known, uid):
    found = next((one for one in known if one.uid == str(uid)), None)
    if found is None:
        raise Http404
    return found
