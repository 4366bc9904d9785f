"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.timing.services.sounding import measure
from hypotaxis.steps.timing.services.taking import take

__all__ = ["measure", "take"]
