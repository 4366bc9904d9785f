"""What is kept to begin with: all of it on one page, renamed and thrown away."""

from django.contrib import messages
from django.shortcuts import get_object_or_404, redirect, render

from hypotaxis.records import templates
from hypotaxis.records.asked import as_uuid, one_line
from hypotaxis.records.current import in_one_go
from hypotaxis.records.models import Rig, Template

WHERE = {
    "instrument": ("instruments:new", "New instrument"),
    "session": ("session:new", "A new session"),
    "pass plan": ("session:plan", "Pass plan"),
}
"""Where a kind is begun with: the address, and what leads there; grids are begun on their tracks."""


@in_one_go
def home(request):
    """The owner's templates; sent, one renamed or gone."""
    if request.method == "POST":
        return _done(request)
    kinds: dict[str, list[templates.Kept]] = {}
    for one in templates.owners():
        kinds.setdefault(one.kind, []).append(one)
    rows = [(kind, mine, WHERE.get(kind)) for kind, mine in kinds.items()]
    rigs = Rig.objects.filter(template=True)
    return render(request, "handover/templates.html", {"kinds": rows, "rigs": rigs})


def _done(request):
    row = get_object_or_404(Template, uid=as_uuid(request.POST.get("template", "")))
    if request.POST.get("to") == "gone":
        row.delete()
        messages.info(request, f"The template {row.name} is gone. What began with it stays.")
        return redirect("handover:templates")
    name = one_line(request.POST.get("name"))
    if not name:
        messages.error(request, f"{row.name} keeps its name: a name needs a letter.")
    else:
        row.name = name
        row.save(update_fields=["name"])
        messages.success(request, f"It is called {name} now.")
    return redirect("handover:templates")
