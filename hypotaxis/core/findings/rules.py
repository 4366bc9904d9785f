"""All rules over the plan, and the check that runs them.

Each rule is a function from the plan to findings, in a file of its subject; its first line says what it looks for.
"""

from dataclasses import replace

from hypotaxis.core.findings import (
    cabling,
    channels,
    clock,
    instruments,
    levels,
    loops,
    making,
    ports,
    routing,
    studio,
    sync,
    unused,
)
from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding, Rule
from hypotaxis.core.findings.meant import set_aside
from hypotaxis.core.plan import Plan

RULES: tuple[Rule, ...] = (
    routing.midi_loop,
    routing.loop_through_host,
    studio.rate_differs,
    studio.end_unmatched,
    instruments.send_missing,
    ports.port_set_aside,
    instruments.box_not_reached,
    channels.channel_held_back,
    channels.channel_not_received,
    instruments.return_missing,
    instruments.return_not_cabled,
    instruments.return_from_another_box,
    loops.loop_out_open,
    loops.loop_home_open,
    levels.modular_into_line,
    ports.interface_not_joined,
    ports.port_not_seen,
    ports.device_without_route,
    ports.port_missing,
    ports.port_taken,
    ports.surface_among_keys,
    cabling.audio_into_itself,
    clock.two_leaders,
    clock.leader_follows,
    *sync.SERIOUS,
    channels.channel_shared,
    channels.plays_along,
    routing.reached_twice,
    routing.omni_on_shared_socket,
    routing.local_and_echo,
    channels.more_instruments_than_parts,
    routing.more_parts_than_channels,
    loops.loop_home_shared,
    instruments.voice_without_return,
    instruments.further_return_open,
    channels.standing_line_open,
    channels.standing_line_silent,
    channels.plays_nobody,
    instruments.left_and_right_swapped,
    instruments.not_a_pair,
    instruments.both_sides_from_one,
    cabling.stereo_into_mono,
    cabling.mono_into_stereo,
    unused.separate_out_unheard,
    instruments.separate_out_expected,
    levels.line_into_modular,
    levels.line_into_microphone,
    levels.line_into_instrument,
    levels.no_headroom,
    studio.buffer_differs,
    studio.frames_lost,
    studio.no_real_time_rights,
    studio.two_crystals,
    cabling.midi_run_too_long,
    cabling.usb_run_too_long,
    ports.hubs_too_deep,
    clock.clock_to_internal,
    clock.waiting_for_clock,
    *sync.RISKIER,
    making.host_before_boxes,
    ports.same_port_name,
    instruments.return_shared,
    instruments.one_side_only,
    cabling.right_without_left,
    cabling.effect_one_way,
    routing.thru_chain_long,
    routing.passed_on_by_software,
    levels.too_weak,
    levels.other_line_level,
    cabling.unbalanced_run_long,
    unused.send_idle,
    unused.return_idle,
    cabling.second_interface,
    instruments.voices_beyond_lanes,
    instruments.home_trim_high,
    ports.no_keys_in,
    studio.xruns_told,
    *sync.LESSER,
    making.settings_not_made,
    cabling.same_name,
    unused.no_instrument_yet,
    unused.no_loop_yet,
    cabling.nothing_connected,
)

_RANK = {WRONG: 0, RISKY: 1, WORTH_KNOWING: 2}


def name_of(rule: Rule) -> str:
    """A rule's name as findings carry it.

    >>> name_of(instruments.send_missing)
    'send-missing'
    """
    return rule.__name__.replace("_", "-")


def check_all(plan: Plan) -> tuple[list[Finding], list[tuple[Finding, str]]]:
    """(all findings that stand, the most serious first; those marked as meant, each with its reason)."""
    found = [replace(finding, rule=name_of(rule)) for rule in RULES for finding in rule(plan)]
    return set_aside(plan, sorted(found, key=lambda finding: _RANK[finding.severity]))


def check(plan: Plan) -> tuple[Finding, ...]:
    """All findings over the plan that are not marked as meant, the most serious first; an empty rig gives none."""
    return tuple(check_all(plan)[0])
