"""A drum machine's voices in tracks of their own, so that each is recorded alone, by as few passes as its outs
allow."""

from collections.abc import Mapping
from uuid import uuid4

from hypotaxis.core.errors import BadBars
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.session.voices import SingleVoice, effects_told, returns_of, single_voices
from hypotaxis.core.units import counted
from hypotaxis.records.journal import Edit, change_session
from hypotaxis.records.models import Session, Track
from hypotaxis.records.patch_lists import voices_of
from hypotaxis.records.plan import notes_of

LONGEST_NAME = 80


class VoicesApart:
    """The voices that a track plays, and the tracks that have some of them. Raises BadBars for one without an
    instrument."""

    def __init__(self, track: Track, plan: Plan) -> None:
        self.track, self.plan = track, plan
        found = plan.instrument(track.instrument_uid)
        if found is None:
            raise BadBars(f"{track.name} has no instrument, so it has no voices. Choose one for it on Session.")
        self.instrument: Instrument = found
        self.notes = notes_of(track)["note"]
        self.rows = [row for row in track.voices.all() if not row.away]

    @property
    def voices(self) -> list[SingleVoice]:
        """What it plays, voice by voice."""
        return single_voices(self.instrument, voices_of(self.instrument), self.notes, self.instrument.middle_c)

    def name_now(self, voice: SingleVoice) -> str:
        """The name of the track that has this voice; of one that is in none the voice's own while there are none."""
        mine = next((row for row in self.rows if set(voice.notes) <= set(row.voice_notes)), None)
        if mine is None:
            return "" if self.rows else voice.name
        return mine.name.removeprefix(self._before)

    @property
    def _before(self) -> str:
        return f"{self.track.name}: "

    def comes_by(self, voice: SingleVoice) -> str:
        """The return of a voice, in words."""
        if voice.home is None:
            return "no return"
        where = returns_text(self.plan.rig, voice.home.inputs)
        return f"{where}, its own out" if voice.home.uid else where

    @property
    def effects(self) -> str:
        """What becomes of the box's own effects."""
        return effects_told(self.instrument, [voice.home for voice in self.voices if voice.home])

    def take_apart(self, names: Mapping[tuple[int, ...], str]) -> str:
        """Give each voice (its notes) to the track of that name, several to one where they have one name; "" = to none.
        Tracks that there are keep their takes; those that no voice names any more are put away. What was done, in
        words. Raises BadBars."""
        wanted: dict[str, list[int]] = {}
        for notes, name in names.items():
            if name.strip():
                wanted.setdefault(f"{self._before}{name.strip()}"[:LONGEST_NAME], []).extend(notes)
        if not wanted:
            raise BadBars("No voice has a track. Name one for each voice that is to be recorded alone.")
        homes = [returns_of(self.instrument, notes) for notes in wanted.values()]
        if not all(homes):
            raise BadBars(f"{self.instrument.name} has no return, so nothing of its voices would be recorded.")
        # Those that were put away come back with what was recorded of them.
        known = {frozenset(row.voice_notes): row for row in (*self.track.voices.filter(away=True), *self.rows)}
        edits = []
        for place, (name, notes) in enumerate(wanted.items()):
            row = known.pop(frozenset(notes), None)
            edits.append(Edit("track", str(row.uid) if row else str(uuid4()), self._fields(name, sorted(notes), place)))
        edits += [Edit("track", str(row.uid), {"away": True, "armed": False}) for row in known.values()]
        edits += self._making_room(len(wanted))
        change_session(self.track.session, f"Voices of {self.track.name} apart", edits)
        return (
            f"{self.track.name} has {counted(len(wanted), 'track')} of single voices now, in the group {self._group}."
        )

    def together_again(self) -> str:
        """Put the tracks of single voices away; what was done, in words."""
        edits = [Edit("track", str(row.uid), {"away": True, "armed": False}) for row in self.rows]
        change_session(self.track.session, f"Voices of {self.track.name} together", edits)
        return f"{self.track.name} is recorded as one again. Takes of single voices are put away with their tracks."

    @property
    def _group(self) -> str:
        return self.track.group or self.track.name[:40]

    def _fields(self, name: str, notes: list[int], place: int) -> dict:
        track = self.track
        copied = ("file_channel", "instrument_uid", "part_uid", "program", "msb", "lsb", "patch_uid")
        return {name: getattr(track, name) for name in copied} | {
            "session_id": str(track.session_id),
            "name": name,
            "order": track.order + 1 + place,
            "voice_of_id": str(track.uid),
            "voice_notes": notes,
            "group": self._group,
            "away": False,
        }

    def _making_room(self, count: int) -> list[Edit]:
        """The tracks that follow stand behind the voices."""
        mine = {row.uid for row in self.rows}
        behind = self.track.session.tracks.filter(order__gt=self.track.order).exclude(uid__in=mine)
        first = self.track.order + 1 + count
        return [Edit("track", str(row.uid), {"order": first + place}) for place, row in enumerate(behind)]


def split_tracks(session: Session) -> set:
    """Uids of the tracks whose voices have tracks of their own."""
    return set(session.tracks.shown().exclude(voice_of=None).values_list("voice_of_id", flat=True))
