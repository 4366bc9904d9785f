"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.sync.leading import listen
from hypotaxis.steps.sync.proving import record_proof

__all__ = ["listen", "record_proof"]
