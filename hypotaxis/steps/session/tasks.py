"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.session.services.importing import take_in
from hypotaxis.steps.session.services.recording import call_up, record

__all__ = ["call_up", "record", "take_in"]
