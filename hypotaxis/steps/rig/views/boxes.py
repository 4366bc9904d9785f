"""A box: its name and looks, its sockets, what it is set to, and the routes inside it."""

from django.contrib import messages
from django.http import FileResponse, Http404
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from hypotaxis.core.drawing.inside import draw_inside
from hypotaxis.core.errors import DoesNotFit, UnreadableFile
from hypotaxis.core.rig.plug import KIND_WORDS
from hypotaxis.core.rig.values import CONNECTORS, Box, Route, Socket
from hypotaxis.records.asked import whole
from hypotaxis.records.current import InUse, in_one_go, in_use
from hypotaxis.records.pictures import keep_picture, picture_path
from hypotaxis.steps.rig import services
from hypotaxis.steps.rig.forms import LEVEL_NAMES, EditBoxForm, RouteForm, SetupForm, SocketForm
from hypotaxis.steps.rig.views.sheet import home


@in_one_go
def box(request, uid):
    """Change a box."""
    here = in_use(request)
    value = box_or_404(here, uid)
    form = EditBoxForm(request.POST or None, request.FILES or None, box=value)
    if request.method == "POST" and form.is_valid():
        fields = {name: form.cleaned_data[name] for name in ("name", "note", "colour", "icon")}
        fields["picture"] = "" if form.cleaned_data.get("no_picture") else value.picture
        try:
            if form.cleaned_data["picture"]:
                fields["picture"] = keep_picture(form.cleaned_data["picture"])
        except UnreadableFile as error:
            form.add_error("picture", str(error))
        else:
            services.edit_box(here.rig, here.plan, value, **fields)
            return redirect("rig:home")
    sockets = [(socket, _in_words(socket)) for socket in value.sockets]
    return home(request, sheet="box", form=form, box=value, sockets=sockets, title=value.name, button="Keep")


def _in_words(socket: Socket) -> str:
    """What kind of socket it is, in a line."""
    words = [KIND_WORDS[socket.kind], CONNECTORS[socket.connector] if socket.connector else ""]
    words += [f"with {socket.stereo}" if socket.stereo else "", LEVEL_NAMES.get(socket.level, socket.level)]
    words.append(f"inside {socket.carried_by}" if socket.carried_by else "")
    told = ", ".join(filter(None, words if socket.level else [*words[:3], words[4]]))
    return told if socket.direction == "both" else f"{socket.direction}, {told}"


def picture(request, name):
    """A box's picture."""
    path = picture_path(name)
    if not name.isalnum() or not path.exists():
        raise Http404
    answer = FileResponse(path.open("rb"), content_type="image/png")
    answer["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer


@require_POST
@in_one_go
def copy(request, uid):
    """A second box like this one."""
    here = in_use(request)
    made = services.copy_box(here.rig, here.plan, box_or_404(here, uid))
    messages.success(request, f"{made.name} stands on the sheet, not cabled yet.")
    return redirect("rig:box", uid=made.uid)


@require_POST
@in_one_go
def move(request, uid):
    """Move a box up or down in its column, or to a place counted from the top (when it is dragged there)."""
    here = in_use(request)
    value = box_or_404(here, uid)
    if "place" in request.POST:
        services.place_box(here.rig, here.plan, value, whole(request.POST["place"], 0, 0, 10_000))
        return redirect("rig:home")
    up = request.POST.get("to") == "up"
    if not services.move_box(here.rig, here.plan, value, up=up):
        messages.info(request, f"{value.name} stands at the {'top' if up else 'bottom'} of its column already.")
    return redirect("rig:box", uid=uid)


@require_POST
@in_one_go
def remove(request, uid):
    """Remove a box."""
    here = in_use(request)
    value = box_or_404(here, uid)
    services.remove_box(here.rig, here.plan, value)
    messages.info(request, f"{value.name} and its cables are removed. Undo brings them back.")
    return redirect("rig:home")


@in_one_go
def setup(request, uid):
    """What a box can do and is set to."""
    here = in_use(request)
    value = box_or_404(here, uid)
    form = SetupForm(request.POST or None, box=value)
    if request.method == "POST" and form.is_valid():
        services.set_up(here.rig, here.plan, value, form.delays(), **form.setup())
        return redirect("rig:box", uid=uid)
    return home(request, sheet="setup", form=form, box=value, title=f"{value.name}: settings", button="Keep")


@in_one_go
def socket(request, uid):
    """Change a socket."""
    here = in_use(request)
    owner, value = socket_or_404(here, uid)
    form = SocketForm(request.POST or None, box=owner, socket=value)
    if request.method == "POST" and form.is_valid():
        services.edit_socket(here.rig, here.plan, value.uid, form.cleaned_data)
        return redirect("rig:box", uid=owner.uid)
    title = f"{owner.name}: {value.label}"
    return home(request, sheet="socket", form=form, box=owner, socket=value, title=title, button="Keep")


@in_one_go
def new_socket(request, uid):
    """One more socket on a box."""
    here = in_use(request)
    owner = box_or_404(here, uid)
    form = SocketForm(request.POST or None, box=owner)
    form.of_new = True
    if request.method == "POST" and form.is_valid():
        services.add_socket(here.rig, here.plan, owner, form.cleaned_data)
        return redirect("rig:box", uid=owner.uid)
    title = f"A new socket of {owner.name}"
    return home(request, sheet="new-socket", form=form, box=owner, title=title, button="Add it")


@require_POST
@in_one_go
def remove_socket(request, uid):
    """Remove a socket."""
    here = in_use(request)
    owner, value = socket_or_404(here, uid)
    services.remove_socket(here.rig, here.plan, value.uid)
    messages.info(request, f"{value.label} of {owner.name} is removed, with its cable. Undo brings it back.")
    return redirect("rig:box", uid=owner.uid)


@require_POST
@in_one_go
def move_socket(request, uid):
    """Move a socket one row up or down."""
    here = in_use(request)
    owner, value = socket_or_404(here, uid)
    services.move_socket(here.rig, here.plan, value.uid, up=request.POST.get("to") == "up")
    return redirect("rig:box", uid=owner.uid)


@in_one_go
def inside(request, uid, **sheet):
    """The routes inside a box, as a matrix and as lines."""
    here = in_use(request)
    value = box_or_404(here, uid)
    chosen = next((route for route in value.routes if route.uid == request.GET.get("route")), None)
    form = _route_form(request, here, value, chosen) if chosen else None
    if request.method == "POST" and form and form.is_valid():
        services.set_route(here.rig, here.plan, chosen, **form.cleaned_data)
        return redirect("rig:inside", uid=uid)
    drawing = draw_inside(here.plan.rig, value, chosen.uid if chosen else "")
    context = {"box": value, "inside": drawing, "route": chosen, "form": form, "title": f"Inside {value.name}"}
    return home(request, sheet="inside", **context)


def _route_form(request, here: InUse, owner: Box, chosen: Route) -> RouteForm:
    return RouteForm(request.POST or None, route=chosen, kind=owner.at(chosen.target).kind)


@require_POST
@in_one_go
def add_route(request, uid):
    """Lay a route, or take it out where it lies."""
    here = in_use(request)
    owner = box_or_404(here, uid)
    source, target = request.POST.get("source", ""), request.POST.get("target", "")
    lies = next((route for route in owner.routes if (route.source, route.target) == (source, target)), None)
    try:
        if lies:
            services.remove_route(here.rig, here.plan, lies)
        else:
            services.add_route(here.rig, here.plan, source, target)
    except DoesNotFit as error:
        messages.error(request, str(error))
    return redirect("rig:inside", uid=uid)


def box_or_404(here: InUse, uid) -> Box:
    """A box of this rig; the computer is none that can be changed."""
    value = here.plan.rig.box(str(uid))
    if value is None or value.shape == "host":
        raise Http404
    return value


def socket_or_404(here: InUse, uid) -> tuple[Box, Socket]:
    """A socket of this rig with its box."""
    found = here.plan.rig.find(str(uid))
    if found is None or found[0].shape == "host":
        raise Http404
    return found
