"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.timing.services.sounding import measure

__all__ = ["measure"]
