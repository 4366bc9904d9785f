"""Opens the studio: today the stand-in, plugged as the sheet says, its front panels as the person left them."""

from hypotaxis.core.plan import Plan
from hypotaxis.core.studio import Studio
from hypotaxis.records.models import FrontPanel as PanelRow
from hypotaxis.standin.desk import Desk
from hypotaxis.standin.units import FrontPanel

_runs = 0


def open_studio(plan: Plan) -> Studio:
    """The stand-in for a plan. Called before each run, since the sheet and the panels may have changed."""
    global _runs
    _runs += 1
    return Desk(plan.rig, front_panels(), natures=natures(), seed=_runs)


def front_panels() -> dict[str, FrontPanel]:
    """The stand-in's front panels as they are set, by box uid."""
    return {
        row.box_uid: FrontPanel(tuple(row.settings["channels"]), float(row.settings.get("level_db", 0.0)))
        for row in PanelRow.objects.all()
        if "channels" in row.settings
    }


def natures() -> dict[str, str]:
    """Of boxes that are copies: the uid of the box on the desk that they stand for."""
    return {row.box_uid: row.settings["nature"] for row in PanelRow.objects.all() if "nature" in row.settings}
