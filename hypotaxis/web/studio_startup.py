"""Opens the studio: the stand-in, plugged as the sheet says, its front panels as the person left them; or what the
computer offers, for the shell."""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import fields

from django.conf import settings

from hypotaxis.core.errors import StudioTrouble
from hypotaxis.core.plan import Plan
from hypotaxis.core.studio import EVERY, JACK, PORTABLE, STAND_IN, Studio, Wanted
from hypotaxis.devices.panic import call
from hypotaxis.devices.process import DeviceProcess
from hypotaxis.devices.studio import DeviceStudio
from hypotaxis.records.models import FrontPanel as PanelRow
from hypotaxis.standin.desk import Desk
from hypotaxis.standin.units import FrontPanel

PANIC_AT = settings.DATA / "panic.sock"
"""Where silence is asked for, whoever asks."""
_runs = 0
_devices: DeviceProcess | None = None
_PANEL_FIELDS = {field.name for field in fields(FrontPanel)}


def open_studio(plan: Plan, wanted: Wanted | None = None, *, anew: bool = False) -> Studio:
    """The studio in use, for a plan. Called before each run, since the sheet and the panels may have changed; the
    device process stays from run to run, unless it is to be opened anew. Raises LibraryMissing, ServerGone."""
    global _runs
    if wanted and wanted.kind != STAND_IN:
        return DeviceStudio(_process(wanted, anew=anew))
    _runs += 1
    kept = {"natures": natures(), "memories": memories()}
    return Desk(plan.rig, front_panels(), **kept, turned=front_panels, shown=_show, remembered=_remember, seed=_runs)


def _process(wanted: Wanted, *, anew: bool) -> DeviceProcess:
    """The one device process of this process, begun when it is first needed. System audio knows its devices from its
    beginning only; a JACK server is asked at any time, and keeps the connections it has."""
    global _devices
    if _devices is None or _devices.wanted != wanted or (anew and wanted.kind == PORTABLE):
        if _devices:
            _devices.close()
            _devices = None
        _devices = DeviceProcess(wanted, str(PANIC_AT), str(settings.DATA / "devices.log"))
    return _devices


def devices_found(server: str = "") -> list[tuple[str, str]]:
    """(kind of studio, why it cannot be opened, "" = it can) of all that real devices are reached by."""
    found = []
    for kind in (JACK, PORTABLE):
        try:
            DeviceProcess(Wanted(kind=kind, server=server)).close()
        except StudioTrouble as error:
            found.append((kind, str(error)))
        else:
            found.append((kind, ""))
    return found


def silence() -> bool:
    """Silence real devices at once; False where none are open."""
    return call(PANIC_AT)


@contextmanager
def device_studio(kind: str, server: str = "") -> Iterator[DeviceStudio]:
    """Real devices, all that there are, for as long as the block lasts. kind: JACK or PORTABLE. Raises LibraryMissing,
    ServerGone."""
    process = DeviceProcess(Wanted(kind=kind, server=server, input_device=EVERY, output_device=EVERY))
    try:
        yield DeviceStudio(process)
    finally:
        process.close()


def front_panels() -> dict[str, FrontPanel]:
    """The stand-in's front panels as they are set, by box uid."""
    return {row.box_uid: panel_of(row.settings) for row in PanelRow.objects.all() if set(row.settings) - {"nature"}}


def _show(displays: Mapping[str, float]) -> None:
    """Keep the tempo that boxes show on their displays."""
    kept = PanelRow.objects.in_bulk(list(displays))
    for uid, bpm in displays.items():
        if uid not in kept or kept[uid].display_bpm != round(bpm, 1):
            PanelRow.objects.update_or_create(box_uid=uid, defaults={"display_bpm": round(bpm, 1)})


def memories() -> dict[str, str]:
    """What boxes have in their memories, of those that were ever sent anything."""
    return dict(PanelRow.objects.exclude(memory="").values_list("box_uid", "memory"))


def _remember(contents: Mapping[str, str]) -> None:
    """Keep what boxes have been sent into their memories."""
    for uid, content in contents.items():
        PanelRow.objects.update_or_create(box_uid=uid, defaults={"memory": content})


def panel_of(settings: dict) -> FrontPanel:
    """A front panel as it is stored; lists become what the panel has."""
    kept = {name: value for name, value in settings.items() if name in _PANEL_FIELDS}
    kept |= {name: frozenset(kept[name]) for name in ("loose", "taken", "ignores") if name in kept}
    return FrontPanel(**kept | {"channels": tuple(kept.get("channels", ()))})


def natures() -> dict[str, str]:
    """Of boxes that are copies: the uid of the box on the desk that they stand for."""
    return {row.box_uid: row.settings["nature"] for row in PanelRow.objects.all() if "nature" in row.settings}
