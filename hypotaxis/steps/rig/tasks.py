"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.rig.asking import ask
from hypotaxis.steps.rig.checking import check_lines
from hypotaxis.steps.rig.listening import listen
from hypotaxis.steps.rig.panel_heard import listen_for_key

__all__ = ["ask", "check_lines", "listen", "listen_for_key"]
