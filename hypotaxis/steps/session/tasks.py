"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.session.services.importing import take_in
from hypotaxis.steps.session.services.recording import record

__all__ = ["record", "take_in"]
