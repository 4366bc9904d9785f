"""A finding: its remedy shown before it is applied; marked as meant, and no longer."""

from django.contrib import messages
from django.http import Http404
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from hypotaxis.core.errors import DoesNotFit
from hypotaxis.core.findings.finding import Finding
from hypotaxis.core.findings.rules import check
from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.records.journal import edits_between
from hypotaxis.steps.rig import services
from hypotaxis.steps.rig.forms import MeantForm
from hypotaxis.steps.rig.views.sheet import home


@in_one_go
def finding(request, key):
    """What a finding's remedy would change; applied when it is asked for."""
    here = in_use(request)
    value = _finding(here, key)
    if value is None:
        messages.info(request, "That finding is gone: its cause has changed.")
        return redirect("rig:home")
    try:
        after = value.fix.apply(here.plan) if value.fix else here.plan
    except DoesNotFit as error:
        messages.error(request, f"The remedy no longer applies. {error}")
        return redirect("rig:home")
    if request.method == "POST" and value.fix:
        services.apply_fix(here.rig, here.plan, value)
        messages.success(request, f"Done: {value.fix.words}. Undo takes it back.")
        return redirect("rig:home")
    then = check(after)
    new = [other for other in then if other.cause not in {one.cause for one in here.findings}]
    edits = edits_between(here.plan, after)
    return home(
        request,
        preview=after,
        changed=frozenset(edit.uid for edit in edits),
        sheet="finding",
        finding=value,
        new_findings=new,
        gone=len(here.findings) - len(then) + len(new),
        steps=len(edits),
        meant_form=MeantForm(),
        title=value.title,
    )


@require_POST
@in_one_go
def mean(request, key):
    """Mark a finding as meant."""
    here = in_use(request)
    value = _finding(here, key)
    if value is None:
        raise Http404
    form = MeantForm(request.POST)
    if not form.is_valid():
        return home(request, sheet="finding", finding=value, meant_form=form, title=value.title)
    services.mean(here.rig, here.plan, value, form.cleaned_data["reason"])
    messages.success(request, "Set aside as meant. It returns when its cause changes.")
    return redirect("rig:home")


@require_POST
@in_one_go
def stand_again(request, key):
    """Let a finding stand that was meant."""
    here = in_use(request)
    value = next((one for one, _ in here.meant if one.key == key), None)
    if value:
        services.mean_no_more(here.rig, here.plan, value)
    return redirect("rig:home")


def _finding(here: InUse, key: str) -> Finding | None:
    return next((one for one in here.findings if one.key == key), None)
