"""The sheet of settings of the rig and session in use: what is known of them, gathered for core.session.sheet."""

from django.utils import timezone
from django.utils.formats import date_format

from hypotaxis.core.midi.programs import wire_told
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.session.sheet import Known, Sheet, Sound, sheet_of
from hypotaxis.records.lateness import known_latenesses
from hypotaxis.records.models import Session
from hypotaxis.records.patch_lists import picked, sound_of, voices_of
from hypotaxis.records.plan import last_bar_of, loop_of


def settings_sheet(plan: Plan, session: Session | None) -> Sheet:
    """Of a rig, with its session where there is one."""
    known = Known(
        session=session.name if session else "",
        day=date_format(timezone.localdate(), "j F Y"),
        tempo=session.tempo_map if session else None,
        last_bar=last_bar_of(session) if session else 0,
        wrap=_wrap_told(session) if session else "",
        latenesses=known_latenesses(plan),
        sounds=dict(_sounds(plan, session)),
        maps={one.uid: _notes(plan, one) for one in plan.instruments},
    )
    return sheet_of(plan, known)


def _wrap_told(session: Session) -> str:
    loop = loop_of(session)
    if not loop.bars:
        return ""
    last = loop.first_bar + loop.bars - 1
    return f"The loop is bars {loop.first_bar} to {last}, {loop.times} times; what is sent at its wrap stands above."


def _sounds(plan: Plan, session: Session | None):
    """What is called up on each part: on its track of the session, otherwise as it was picked."""
    tracks = {}
    for track in session.tracks.written() if session else ():
        tracks.setdefault((track.instrument_uid, track.part_uid), track)
    for one in plan.instruments:
        for seat in one.seats:
            track, patch = tracks.get((one.uid, seat.part)), picked(one, seat.part)
            sound = sound_of(track) if track else None
            if patch:
                yield (
                    (one.uid, seat.part),
                    Sound(f"{patch.number} {patch.name}", wire_told(patch.program, patch.msb, patch.lsb)),
                )
            elif sound:
                yield (one.uid, seat.part), Sound("", wire_told(sound.program, sound.msb, sound.lsb))


def _notes(plan: Plan, one: Instrument) -> list[tuple[int, str, str]]:
    homes = {back.uid: returns_text(plan.rig, back.inputs) for back in one.every_return if back.inputs}
    main = homes.get("", "no return")
    return [(voice.note, voice.name, homes.get(voice.home, main)) for voice in voices_of(one)]
