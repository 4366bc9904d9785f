"""The rigs there are: choose, begin, copy, keep as a template, save and read as a file."""

from dataclasses import replace

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.utils.text import slugify
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.template import picture_of_rig
from hypotaxis.core.errors import CannotSchedule, UnreadableFile
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from hypotaxis.core.formats.unknown import check_rig_file
from hypotaxis.core.plan import Plan
from hypotaxis.core.timing.applied import carrying
from hypotaxis.records import housekeeping
from hypotaxis.records.audio import write_whole
from hypotaxis.records.current import in_one_go, in_use, make_empty_rig, remember
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.models import Rig, Take
from hypotaxis.records.patch_lists import lists_of
from hypotaxis.records.pictures import embedded, with_pictures
from hypotaxis.records.plan import load_kept
from hypotaxis.steps.rig import services
from hypotaxis.steps.rig.forms import NewRigForm, RigFileForm, RigForm
from hypotaxis.steps.rig.views.sheet import home

ASKED = ("name", "sample_rate", "buffer", "driver", "stamps", "echo", "leader")
"""What the form of a rig asks."""


@in_one_go
def rigs(request):
    """The rigs there are: choose one, change its settings."""
    here = in_use(request)
    form = _form(request, request.POST or None)
    if request.method == "POST" and form.is_valid():
        services.change_settings(here.rig, here.plan, **form.cleaned_data)
        return redirect("rig:rigs")
    return _rigs(request, form=form)


def new_rig(request):
    """A new, empty rig."""
    form = NewRigForm(request.POST or None, initial={"sample_rate": 48000, "buffer": 256})
    if request.method == "POST" and form.is_valid():
        return _go_on_with(make_empty_rig(**form.cleaned_data))
    return home(request, sheet="new-rig", form=form, title="A new rig", button="Begin it")


@require_POST
def choose(request, uid):
    """Go on with another rig."""
    return _go_on_with(get_object_or_404(Rig, uid=uid, template=False))


@require_POST
@in_one_go
def tidy(request, uid):
    """Put a rig away, bring it back, or throw one that is put away away for good."""
    row = get_object_or_404(Rig, uid=uid, template=False)
    try:
        done = housekeeping.tidy(row, request.POST.get("to", ""))
    except CannotSchedule as error:
        messages.error(request, str(error))
    else:
        if done:
            messages.success(request, done)
    return redirect("rig:rigs")


@require_POST
@in_one_go
def duplicate(request):
    """Go on with a copy of the rig."""
    rig = services.duplicate(in_use(request).plan)
    messages.success(request, f"This is {rig.name}: boxes, cables and instruments are copied, sessions are not.")
    return _go_on_with(rig)


@require_POST
@in_one_go
def keep_template(request):
    """Keep the rig as it is now, to start from."""
    here = in_use(request)
    services.duplicate(here.plan, here.rig.name, template=True)
    messages.success(request, f"{here.rig.name} is kept as a template: a new rig can begin with it.")
    return redirect("rig:rigs")


@require_POST
@in_one_go
def from_template(request, uid):
    """Begin a rig with a template, or put the template away."""
    template = get_object_or_404(Rig, uid=uid, template=True)
    if request.POST.get("away"):
        template.delete()
        messages.info(request, f"The template {template.name} is gone. Rigs that began with it stay.")
        return redirect("rig:rigs")
    taken = set(Rig.objects.filter(template=False).values_list("name", flat=True))
    names = (f"{template.name[:74]} {number}" for number in range(2, 10_000))
    name = template.name if template.name not in taken else next(name for name in names if name not in taken)
    return _go_on_with(services.duplicate(load_kept(template), name))


def rig_file(request):
    """The rig with its instruments as a file."""
    here = in_use(request)
    plan = load_kept(here.rig)
    whole = replace(carrying(plan, here.latenesses.known), pictures=embedded(plan), patch_lists=lists_of(plan))
    answer = HttpResponse(write_rig_file(whole), content_type="application/json")
    answer["Content-Disposition"] = f'attachment; filename="{slugify(here.rig.name) or "rig"}.json"'
    return answer


@require_POST
def read_rig(request):
    """A rig from a file, beside those that are there."""
    form = RigFileForm(request.POST, request.FILES)
    if form.is_valid():
        try:
            rig = import_rig(with_pictures(_read(form.cleaned_data["file"].read())))
        except UnicodeDecodeError as error:
            form.add_error("file", f"It is not UTF-8: byte {error.start} cannot be read.")
        except UnreadableFile as error:
            form.add_error("file", str(error))
        else:
            messages.success(request, f"{rig.name} is read, beside the rigs that were there.")
            return _go_on_with(rig)
    return _rigs(request, file_form=form)


def _read(data: bytes) -> Plan:
    """The rig in a file; it is read by itself first, since what it does to a reader is not known before."""
    text = data.decode("utf-8")
    path = write_whole("rigs", ".json", lambda stream: stream.write(data))
    try:
        check_rig_file(path)
    finally:
        path.unlink(missing_ok=True)
    return read_rig_file(text)


def _form(request, data=None) -> RigForm:
    here = in_use(request)
    initial = {name: getattr(here.rig, name) for name in ASKED}
    rates = set(Take.objects.filter(session__rig=here.rig).values_list("sample_rate", flat=True))
    return RigForm(data, plan=here.plan, initial=initial, kept_rates=rates)


def _rigs(request, **forms):
    known = {"form": _form(request), "file_form": RigFileForm()}
    kept = Rig.objects.filter(template=True)
    templates = [{"row": row, "picture": picture_of_rig(load_kept(row).rig)} for row in kept]
    context = {"rigs": in_use(request).rigs, "templates": templates, "title": "Rigs", "button": "Keep"}
    context["rigs_away"] = housekeeping.all_weighed(list(Rig.objects.filter(template=False, away=True)))
    return home(request, sheet="rigs", **context | known | forms)


def _go_on_with(rig: Rig):
    return remember(redirect("rig:home"), "rig", str(rig.uid))
