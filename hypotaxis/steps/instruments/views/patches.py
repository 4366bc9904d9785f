"""Patch lists: read with a preview, kept, browsed, written; sounds searched, called up and tried."""

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.text import slugify
from django.views.decorators.http import require_POST

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.patchfile import PASTED, WRITERS, sent_by
from hypotaxis.core.patches.numbers import FORMS
from hypotaxis.core.plan import Instrument
from hypotaxis.core.playing.tryout import TryOutWish, usual_note
from hypotaxis.records.asked import as_uuid
from hypotaxis.records.current import asked_back, in_one_go, in_use
from hypotaxis.records.models import Patch, PatchList
from hypotaxis.records.patch_lists import as_value, note_maps_of, picked
from hypotaxis.steps.instruments.forms import BankNumbersForm, PatchFileForm
from hypotaxis.steps.instruments.services import patches as service
from hypotaxis.steps.instruments.services import trying
from hypotaxis.steps.instruments.views.lines import instrument_or_404

TYPES = {"xml": ("application/xml", "midnam"), "csv": ("text/csv", "csv"), "json": ("application/json", "json")}
PREVIEWED = 400


def lists(request):
    """The patch lists there are, and where more come from."""
    form = PatchFileForm(request.POST or None, request.FILES or None)
    if request.method == "POST" and form.is_valid():
        name = service.put_aside(form.data_to_read(), pasted=form.is_pasted())
        try:
            service.preview(name)
        except UnreadableFile as error:
            form.add_error("text" if form.is_pasted() else "file", str(error))
        else:
            title = slugify(form.title(), allow_unicode=True)[:60]
            return redirect(f"{reverse('instruments:preview', args=[name])}?title={title}")
    known = PatchList.objects.all()
    return render(request, "instruments/patch_lists.html", {"form": form, "lists": known})


@require_POST
def general_midi(request):
    """The General MIDI sound set as a list."""
    kept = service.add_general_midi()
    return redirect("instruments:list", uid=kept.uid)


def preview(request, name):
    """What would be kept, every doubtful line marked; kept when it is confirmed."""
    chosen = request.GET.get("form", "") if request.GET.get("form") in FORMS else ""
    try:
        kind, found = service.preview(name, chosen)
    except UnreadableFile as error:
        messages.error(request, str(error))
        return redirect(request.path if chosen else reverse("instruments:lists"))
    title = found.patches.name or request.GET.get("title", "").replace("-", " ")
    form = BankNumbersForm(request.POST or None, banks=found.patches.banks, title=title)
    if request.method == "POST" and form.is_valid():
        kept = service.keep(name, form.cleaned_data["title"], form.numbers(), chosen)
        messages.success(request, f"{kept.name} is kept: {kept.patches.count()} sounds.")
        return redirect("instruments:list", uid=kept.uid)
    counts = [sum(patch.bank == place for patch in found.patches.patches) for place in range(len(found.patches.banks))]
    context = {
        "form": form,
        "kind": kind,
        "found": found,
        "numbers": FORMS[found.form].title if found.form else "",
        "forms": FORMS.values() if kind == PASTED else (),
        "title": request.GET.get("title", ""),
        "shown": found.patches.patches[:PREVIEWED],
        "more": max(0, len(found.patches.patches) - PREVIEWED),
        "banks": list(zip(found.patches.banks, counts, form.rows(), sent_by(found), strict=True)),
        "doubtful": {doubt.line for doubt in found.doubts if doubt.line},
    }
    return render(request, "instruments/patch_preview.html", context)


def browse(request, uid):
    """One list: searched as it is typed."""
    kept = get_object_or_404(PatchList, uid=uid)
    words, only = request.GET.get("q", ""), request.GET.get("only", "")
    rows, many = service.find(kept, words, only=only)
    context = {"list": kept, "rows": rows, "many": many, "words": words, "only": only, "banks": kept.banks}
    if request.headers.get("X-Fragment"):
        return render(request, "instruments/includes/patch_rows.html", context)
    context["maps"] = note_maps_of(kept)
    return render(request, "instruments/patch_list.html", context)


def export(request, uid, form):
    """A list as a file."""
    kept = get_object_or_404(PatchList, uid=uid)
    if form not in TYPES:
        raise Http404
    kind, ending = TYPES[form]
    answer = HttpResponse(WRITERS[form](as_value(kept)), content_type=f"{kind}; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{slugify(kept.name) or "patches"}.{ending}"'
    return answer


@require_POST
def remove(request, uid):
    """Remove a list; instruments keep what they play, without its names."""
    kept = get_object_or_404(PatchList, uid=uid)
    name = kept.name
    kept.delete()
    messages.info(request, f"{name} is removed. What it was read from can be read again.")
    return redirect("instruments:lists")


@require_POST
def mark(request, uid):
    """A favourite, or checked by ear."""
    patch = get_object_or_404(Patch, uid=uid)
    service.mark(patch, request.POST.get("what", ""))
    return redirect(asked_back(request, reverse("instruments:list", args=[patch.list_id])))


def find(request, uid):
    """Sounds for an instrument, as they are typed."""
    here = in_use(request)
    instrument = instrument_or_404(here, uid)
    kept = service.list_of(instrument)
    rows, many = service.find(kept, request.GET.get("q", ""), only=request.GET.get("only", "")) if kept else ([], 0)
    context = {"i": instrument, "rows": rows, "many": many, "words": request.GET.get("q", ""), "searched": True}
    context["part"] = instrument.seat(request.GET.get("part", "")).part
    context["patch"] = picked(instrument, context["part"])
    return render(request, "instruments/includes/found.html", context)


@require_POST
@in_one_go
def choose_list(request, uid):
    """Which list names an instrument's sounds."""
    here = in_use(request)
    instrument = instrument_or_404(here, uid)
    kept = PatchList.objects.filter(uid=as_uuid(request.POST.get("list", ""))).first()
    service.use_list(here.rig, here.plan, instrument, kept)
    return redirect("instruments:open", uid=uid)


@require_POST
def pick(request, uid):
    """Call a sound up, and try it at once. step: the neighbour of the one called up."""
    called = _call_up(request, uid)
    if called is None:
        messages.info(request, "That is the end of the list.")
        return redirect("instruments:open", uid=uid)
    here = in_use(request)
    wish = TryOutWish(note=usual_note(here.plan, called))
    # Behind the transaction: the worker is told of nothing that is not there for good.
    job = trying.start_tryout(here.rig, called.uid, wish)
    part = called.seat(request.POST.get("part", "")).part
    return redirect(f"{reverse('instruments:open', args=[uid])}?try={job.uid}&part={part}#sound")


@in_one_go
def _call_up(request, uid) -> Instrument | None:
    """The instrument on which the asked sound is called up now; None where there is no such sound."""
    here = in_use(request)
    instrument = instrument_or_404(here, uid)
    part = instrument.seat(request.POST.get("part", "")).part
    now = picked(instrument, part)
    if "step" in request.POST:
        step = 1 if request.POST["step"] == "next" else -1
        kept = service.list_of(instrument)
        patch = service.neighbour(now, step) if now else (kept.patches.first() if kept else None)
    else:
        patch = Patch.objects.filter(uid=as_uuid(request.POST.get("patch", ""))).first()
    if patch is None:
        return None
    service.pick(here.rig, here.plan, instrument, patch, here.session, part=part)
    return instrument
