"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.instruments.services.trying import play

__all__ = ["play"]
