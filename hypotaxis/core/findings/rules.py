"""All rules over the plan, and the check that runs them.

Each rule is a function from the plan to findings, in a file of its subject; its first line says what it looks for.
"""

from dataclasses import replace

from hypotaxis.core.findings import cabling, instruments
from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding, Rule
from hypotaxis.core.plan import Plan

RULES: tuple[Rule, ...] = (
    instruments.send_missing,
    instruments.port_set_aside,
    instruments.box_not_reached,
    instruments.return_missing,
    instruments.return_not_cabled,
    instruments.return_from_another_box,
    cabling.interface_not_joined,
    cabling.audio_into_itself,
    instruments.channel_shared,
    instruments.more_instruments_than_parts,
    instruments.left_and_right_swapped,
    instruments.not_a_pair,
    cabling.separate_out_unheard,
    cabling.midi_run_too_long,
    cabling.usb_run_too_long,
    cabling.same_port_name,
    instruments.return_shared,
    instruments.one_side_only,
    cabling.right_without_left,
    cabling.effect_one_way,
    cabling.thru_chain_long,
    cabling.send_idle,
    cabling.return_idle,
    instruments.home_trim_high,
    cabling.same_name,
    cabling.nothing_connected,
    instruments.no_instrument_yet,
)

_RANK = {WRONG: 0, RISKY: 1, WORTH_KNOWING: 2}


def name_of(rule: Rule) -> str:
    """A rule's name as findings carry it.

    >>> name_of(instruments.send_missing)
    'send-missing'
    """
    return rule.__name__.replace("_", "-")


def check(plan: Plan) -> tuple[Finding, ...]:
    """All findings over the plan, the most serious first; an empty rig gives none."""
    found = [replace(finding, rule=name_of(rule)) for rule in RULES for finding in rule(plan)]
    return tuple(sorted(found, key=lambda finding: _RANK[finding.severity]))
