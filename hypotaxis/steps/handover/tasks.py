"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.handover.archive import make
from hypotaxis.steps.handover.backing_up import back_up
from hypotaxis.steps.handover.opening import take_in

__all__ = ["back_up", "make", "take_in"]
