"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.rig.asking import ask
from hypotaxis.steps.rig.checking import check_lines

__all__ = ["ask", "check_lines"]
