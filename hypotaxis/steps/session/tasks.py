"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.session.services.recording import record

__all__ = ["record"]
