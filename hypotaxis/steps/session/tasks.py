"""Tasks the worker finds by this module's name."""

from hypotaxis.steps.session.services.bouncing import bounce
from hypotaxis.steps.session.services.comparing import compare
from hypotaxis.steps.session.services.dumping import exchange
from hypotaxis.steps.session.services.free_playing import play_freely
from hypotaxis.steps.session.services.importing import take_in
from hypotaxis.steps.session.services.part_loop import go_round
from hypotaxis.steps.session.services.planning import run_plan
from hypotaxis.steps.session.services.playing_in import play
from hypotaxis.steps.session.services.recalling import play_again
from hypotaxis.steps.session.services.recording import call_up, record

__all__ = [
    "bounce",
    "call_up",
    "compare",
    "exchange",
    "go_round",
    "play",
    "play_again",
    "play_freely",
    "record",
    "run_plan",
    "take_in",
]
