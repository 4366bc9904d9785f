"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.rig.asking import ask

__all__ = ["ask"]
