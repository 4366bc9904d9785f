"""Forms of the session."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, fields
from functools import lru_cache
from pathlib import PurePath
from typing import Any
from uuid import UUID

from django import forms

from hypotaxis.core.formats.smf import MAX_BYTES
from hypotaxis.core.plan import Plan
from hypotaxis.core.playing.played_in import CLICKS, taken_off
from hypotaxis.core.session.arrange import (
    UNITS,
    Piece,
    doubled,
    empty,
    in_double_time,
    in_half_time,
    notes_beyond,
    with_bars,
    with_meter,
    with_section,
    with_tempo,
)
from hypotaxis.core.session.beside import outputs_of
from hypotaxis.core.session.changing import NoteChange
from hypotaxis.core.session.joining import FILES, SESSIONS
from hypotaxis.core.session.straighten import DIVISIONS, LEAST_SWING, MOST_SWING, Straightening
from hypotaxis.core.studio import STAND_IN, WITH_A_NOTE
from hypotaxis.core.units import counted
from hypotaxis.records.asked import one_line
from hypotaxis.records.choices import Options, SharedChoice
from hypotaxis.records.merging import Merged
from hypotaxis.records.models import Track
from hypotaxis.steps.session.services.joining import NEW, TRACK, Coming
from hypotaxis.steps.session.services.recording import TO_THE_BAR, UNTIL_STOP


def seat_choices(plan: Plan) -> list[tuple[str, str]]:
    """Every instrument and part that a track can play, as "instrument/part" with its name."""
    return [
        ("/".join(filter(None, (one.uid, seat.part))), f"{one.name}: {seat.name}" if seat.part else one.name)
        for one in plan.instruments
        for seat in one.seats
    ]


def seats_of(plan: Plan, tracks: int) -> Options:
    """The same as options of so many tracks; one and the same as long as they are."""
    return _seats((("", "no instrument"), *seat_choices(plan)), tracks)


@lru_cache(4)
def _seats(choices: tuple[tuple[str, str], ...], tracks: int) -> Options:
    return Options(choices, tracks)


class ScoreForm(forms.Form):
    """A MIDI file to import."""

    score = forms.FileField(
        label="Standard MIDI File (.mid)",
        help_text="Type 0 or 1. Tempo and meter changes are kept; a track with several channels is split by channel.",
        error_messages={
            "required": "Choose a file first.",
            "empty": "The file is empty. Export it again from where it was made.",
        },
    )
    name = forms.CharField(label="Name of the session", max_length=80, required=False, help_text="Empty: the file’s.")

    def clean_score(self):
        upload = self.cleaned_data["score"]
        if upload.size > MAX_BYTES:
            raise forms.ValidationError(
                f"The file is {upload.size / 2**20:.0f} MB; scores up to {MAX_BYTES // 2**20} MB are read. "
                "Is it an audio file?"
            )
        return upload

    def session_name(self) -> str:
        """The given name, otherwise the file's without its ending."""
        given = self.cleaned_data["name"] or PurePath(self.cleaned_data["score"].name).stem
        return one_line(given) or "Untitled"


UNIT_CHOICES = [(unit, str(unit)) for unit in UNITS]


class NewSessionForm(forms.Form):
    """A session without notes."""

    name = forms.CharField(label="Name", max_length=80)
    bpm = forms.FloatField(label="Tempo, BPM", initial=120)
    beats = forms.IntegerField(label="Meter: beats in a bar", initial=4)
    unit = forms.TypedChoiceField(label="of", choices=UNIT_CHOICES, coerce=int, initial=4)
    bars = forms.IntegerField(label="Bars", initial=16)
    tracks = forms.BooleanField(
        label="A track for every instrument and part",
        required=False,
        initial=True,
        help_text="What is too much is put away later; others are added.",
    )

    def clean_name(self) -> str:
        return one_line(self.cleaned_data["name"])

    def piece(self) -> Piece:
        """The piece that is asked for. Raises BadBars."""
        return empty(**{name: self.cleaned_data[name] for name in ("bpm", "beats", "unit", "bars")})


TEMPO, METER, SECTION, LENGTH, REMOVE = "tempo", "meter", "section", "length", "remove"
DOUBLED, DOUBLE_TIME, HALF_TIME = "doubled", "double time", "half time"


class BarsForm(forms.Form):
    """What is changed from a bar on, or of all of a session; `to` says which."""

    needs = {TEMPO: ("bpm",), METER: ("beats", "unit"), LENGTH: ("bars",)}

    bar = forms.IntegerField(label="From bar", initial=1)
    beat = forms.IntegerField(label="beat", required=False, initial=1)
    bpm = forms.FloatField(label="BPM", required=False)
    beats = forms.IntegerField(label="Meter", required=False)
    unit = forms.TypedChoiceField(label="of", choices=UNIT_CHOICES, coerce=int, required=False)
    name = forms.CharField(label="Section", max_length=200, required=False)
    bars = forms.IntegerField(label="Bars", required=False)
    of = forms.ChoiceField(choices=[(one, one) for one in (TEMPO, METER, SECTION)], required=False)

    def clean(self):
        for name in self.needs.get(self.data.get("to", ""), ()):
            if self.cleaned_data.get(name) in (None, "") and name not in self.errors:
                self.add_error(name, "Type a number first.")

    def change(self, piece: Piece) -> tuple[str, Piece]:
        """(what is done, the piece then). Raises BadBars."""
        chosen, to = self.cleaned_data, self.data.get("to", "")
        bar, beat = chosen["bar"], chosen["beat"] or 1
        if to == REMOVE:
            return f"No change of {chosen['of']} in bar {bar}", self._without(piece, chosen["of"], bar, beat)
        if to == TEMPO:
            return f"{chosen['bpm']:g} BPM from bar {bar}", with_tempo(piece, bar=bar, beat=beat, bpm=chosen["bpm"])
        if to == METER:
            meter = chosen["beats"], chosen["unit"]
            return f"{meter[0]}/{meter[1]} from bar {bar}", with_meter(piece, bar=bar, meter=meter)
        if to == SECTION:
            told = f"Bar {bar} begins “{chosen['name'].strip()}”" if chosen["name"].strip() else f"No name at bar {bar}"
            return told, with_section(piece, bar=bar, name=chosen["name"])
        if to == LENGTH:
            lost = notes_beyond(piece, chosen["bars"])
            gone = f", {counted(lost, 'note')} cut" if lost else ""
            return f"{counted(chosen['bars'], 'bar')} long{gone}", with_bars(piece, chosen["bars"])
        told, change = {
            DOUBLED: ("Twice as long", doubled),
            DOUBLE_TIME: ("Notes in double time", in_double_time),
            HALF_TIME: ("Notes in half time", in_half_time),
        }.get(to, ("Nothing", lambda same: same))
        return told, change(piece)

    @staticmethod
    def _without(piece: Piece, of: str, bar: int, beat: int) -> Piece:
        if of == TEMPO:
            return with_tempo(piece, bar=bar, beat=beat, bpm=None)
        return with_meter(piece, bar=bar, meter=None) if of == METER else with_section(piece, bar=bar, name="")


class JoinForm(forms.Form):
    """Where a file's parts go, from which bar, and whose tempo rules."""

    bar = forms.IntegerField(label="From bar", initial=1, min_value=1)
    rules = forms.ChoiceField(
        label="Tempo and meter", choices=[(SESSIONS, "the session’s rule"), (FILES, "the file’s, as far as it goes")]
    )

    def __init__(self, *args, plan: Plan, tracks: Iterable[Track], coming: Sequence[Coming], **kwargs) -> None:
        """coming: the parts of the file, each with what is proposed for it."""
        super().__init__(*args, **kwargs)
        self.coming = coming
        choices = [
            ("", "left out"),
            ("Tracks", [(f"{TRACK}/{row.uid}", row.name) for row in tracks]),
            ("New tracks", [(f"{NEW}/{seat}", name) for seat, name in seat_choices(plan)]),
        ]
        for one in coming:
            known = {value for group in choices[1:] for value, _ in group[1]}
            to = one.to.rstrip("/") if one.to.startswith(NEW) else one.to
            self.fields[f"to_{one.number}"] = forms.ChoiceField(
                label=f"{one.name}, channel {one.channel}, {counted(one.notes, 'note')}",
                choices=choices,
                required=False,
                initial=to if to in known else "",
            )

    def where(self) -> dict[int, str]:
        """The track of each part."""
        return {one.number: self.cleaned_data[f"to_{one.number}"] for one in self.coming}


class PlayForm(forms.Form):
    """What is played in to which track, and to which click."""

    track = forms.ChoiceField(label="To the track")
    first_bar = forms.IntegerField(label="From bar", min_value=1)
    last_bar = forms.IntegerField(label="To bar", min_value=1)
    anew = forms.ChoiceField(
        label="What is there", choices=[("", "stays, and is added to"), ("1", "goes: begun anew")], required=False
    )
    times = forms.IntegerField(
        label="Times round", min_value=0, max_value=999, initial=1, required=False, help_text="0: until you stop."
    )
    count_in = forms.IntegerField(label="Bars of count-in", min_value=0, max_value=8, initial=1)
    output = forms.ChoiceField(label="Click on", required=False)
    level_db = forms.FloatField(label="Level of the click, dB", min_value=-60, max_value=0, initial=-12)
    click = forms.ChoiceField(label="It clicks in", choices=list(CLICKS.items()), required=False)
    on_page = forms.BooleanField(
        label="Click on this page, too",
        required=False,
        help_text="By the computer’s own speakers, within some 10 ms: a guide. What is taken off goes by the output.",
    )
    take_off = forms.BooleanField(
        label="Take off what the click takes to the ears, and the keys to the computer", required=False, initial=True
    )
    fast = forms.BooleanField(label="Stand-in only: faster than real time", required=False)

    def __init__(self, *args, plan: Plan, tracks: Sequence[Track], last_bar: int, **kwargs) -> None:
        armed = next((str(row.uid) for row in tracks if row.armed), None)
        outputs = [(socket.uid, name) for socket, name in outputs_of(plan)]
        heard = next((uid for uid, _ in outputs if plan.rig.cable_at(uid)), outputs[0][0] if outputs else "")
        usual = {"track": armed, "first_bar": 1, "last_bar": last_bar, "output": heard}
        super().__init__(*args, initial=usual, **kwargs)
        self.fields["track"].choices = [(str(row.uid), row.name) for row in tracks if row.instrument_uid]
        self.fields["output"].choices = [("", "no output: no click"), *outputs]
        off = taken_off(plan, heard)
        self.fields["take_off"].help_text = (
            f"{off.ms:.1f} ms (±{off.half_ms:.1f}): {off.ears_ms:.1f} until the click is heard, {off.keys_ms:.1f} for "
            "the keys. The lateness of the sound that is played is no part of it."
        )
        if plan.studio_kind != STAND_IN:
            del self.fields["fast"]

    def clean(self):
        first, last = self.cleaned_data.get("first_bar"), self.cleaned_data.get("last_bar")
        if first and last and last < first:
            self.add_error("last_bar", f"The last bar lies before the first one, {first}.")


class StraightenForm(forms.Form):
    """How a part is straightened."""

    division = forms.ChoiceField(
        label="To a division of", choices=[(one, one) for one in DIVISIONS], initial="1/16", required=False
    )
    strength = forms.FloatField(label="Strength, %", min_value=0, max_value=100, initial=100)
    swing = forms.FloatField(label="Swing, %", min_value=LEAST_SWING, max_value=MOST_SWING, initial=50)
    window = forms.FloatField(
        label="Window, %",
        min_value=1,
        max_value=100,
        initial=100,
        help_text="Only what is so near to its place is moved; 100: all of it.",
    )
    groove = forms.ChoiceField(label="After the groove of", required=False, help_text="In the place of swing.")

    def __init__(self, *args, grooves: Sequence[tuple[str, str]], **kwargs) -> None:
        super().__init__(*args, **kwargs)
        self.fields["groove"].choices = [("", "none"), *grooves]

    def how(self) -> Straightening:
        """What is asked for. Raises BadBars."""
        chosen = self.cleaned_data
        return Straightening(
            division=chosen["division"],
            strength=chosen["strength"] / 100,
            swing=chosen["swing"],
            window=chosen["window"] / 100,
        )


class ChangeForm(forms.Form):
    """What is changed of the notes of some bars."""

    first_bar = forms.IntegerField(label="From bar", min_value=1, initial=1)
    last_bar = forms.IntegerField(label="To bar", min_value=1)
    semitones = forms.IntegerField(label="Semitones up, − down", initial=0, required=False)
    loudness = forms.FloatField(label="Velocity, %", initial=100, required=False)

    def how(self, *, remove: bool) -> NoteChange:
        """What is asked for. Raises BadBars."""
        chosen = self.cleaned_data
        loudness = 100 if chosen["loudness"] is None else chosen["loudness"]
        bars = {"first_bar": chosen["first_bar"], "last_bar": chosen["last_bar"]}
        return NoteChange(**bars, semitones=chosen["semitones"] or 0, loudness=loudness / 100, remove=remove)


EFFECT = "effect:"
"""How the choice of an effect loop begins."""


class NewTrackForm(forms.Form):
    """A track without notes."""

    seat = forms.ChoiceField(label="For")

    def __init__(self, *args, plan: Plan, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        loops = [(f"{EFFECT}{one.uid}", f"effect {one.name}") for one in plan.loops if one.box]
        self.fields["seat"].choices = [*seat_choices(plan), *loops]


VOICED = ("instrument_uid", "part_uid", "program", "patch_uid", "msb", "lsb")
"""What single voices have of the track whose notes they play."""


class TrackForm(Merged, forms.Form):
    """A track's instrument, program and arming. The program is shown as the wire counts it, 0–127."""

    instrument_uid = SharedChoice(label="Instrument", required=False)
    program = forms.IntegerField(label="Program 0–127", min_value=0, max_value=127, required=False)
    armed = forms.BooleanField(label="Armed", required=False)

    def __init__(self, *args, track: "Track | _Stands", seats: Options, others: Sequence[Track] = (), **kwargs) -> None:
        """seats: what a track can play; others: all tracks."""
        self.track, self.kept = track, "/".join(filter(None, (track.instrument_uid, track.part_uid)))
        super().__init__(*args, prefix=str(track.uid), initial=self.stands(), **kwargs)
        if track.committed:
            del self.fields["armed"]
        if track.voice_of_id:
            # A single voice has these of the track whose notes it plays.
            del self.fields["instrument_uid"], self.fields["program"]
        self.offer(seats, others)

    def stands(self) -> dict[str, Any]:
        """What its fields hold now."""
        return {"instrument_uid": self.kept, "program": self.track.program, "armed": self.track.armed}

    def offer(self, seats: Options, others: Sequence[Track]) -> None:
        """Give its choices what can be chosen."""
        if "instrument_uid" in self.fields:
            gone = () if self.kept in seats else ((self.kept, "an instrument or part that is gone"),)
            self.fields["instrument_uid"].offer(seats, gone)

    def save(self) -> None:
        """Store what changed. A program typed by hand is no longer the picked patch's, and belongs to no bank."""
        if fields := self.changed():
            Track.objects.filter(uid=self.track.uid).update(**fields)
            self.track.voices.update(**{name: fields[name] for name in VOICED if name in fields})

    def changed(self) -> dict[str, Any]:
        """What is to be stored."""
        chosen, fields = self.cleaned_data, {}
        if chosen.get("instrument_uid", self.kept) != self.kept:
            uid, _, part = chosen["instrument_uid"].partition("/")
            fields |= {"instrument_uid": uid, "part_uid": part}
        if chosen.get("program", self.track.program) != self.track.program:
            fields |= {"program": chosen["program"], "patch_uid": "", "msb": None, "lsb": None}
        if chosen.get("armed", self.track.armed) != self.track.armed:
            fields["armed"] = chosen["armed"]
        return fields


KEPT = 512
"""Forms of tracks as they stand: those of a session."""


@dataclass(frozen=True)
class _Stands:
    """All of a track that its form shows."""

    uid: UUID
    instrument_uid: str
    part_uid: str
    program: int | None
    armed: bool
    committed: bool
    voice_of_id: UUID | None


def shown_form(track: Track, seats: Options) -> TrackForm:
    """The form of a track as it stands, to be shown only: made and written once as long as none of that changes."""
    return _shown_form(_Stands(*(getattr(track, field.name) for field in fields(_Stands))), seats)


@lru_cache(KEPT)
def _shown_form(stands: _Stands, seats: Options) -> TrackForm:
    form = TrackForm(track=stands, seats=seats)
    form.lasting = True
    return form


class EffectTrackForm(TrackForm):
    """A track of an effect loop: what is sent through it, and what its return holds."""

    instrument_uid = program = None
    fed_by = forms.ChoiceField(label="Sent", required=False)
    holds_dry = forms.ChoiceField(
        label="The return holds", choices=[("", "the effect alone"), ("dry", "the dry sound, too")], required=False
    )

    def stands(self) -> dict[str, Any]:
        """What its fields hold now."""
        track = self.track
        sent = {"fed_by": str(track.fed_by_id or ""), "holds_dry": "dry" if track.holds_dry else ""}
        return sent | {"armed": track.armed}

    def offer(self, seats: Options, others: Sequence[Track]) -> None:
        """Give its choices what can be chosen."""
        fed = [(str(one.uid), one.name) for one in others if one.uid != self.track.uid]
        self.fields["fed_by"].choices = [("", "nothing"), *fed]

    def changed(self) -> dict[str, Any]:
        """What is to be stored."""
        chosen = self.cleaned_data
        return super().changed() | {"fed_by": chosen["fed_by"] or None, "holds_dry": bool(chosen["holds_dry"])}


class PassForm(forms.Form):
    """What a pass records."""

    first_bar = forms.IntegerField(label="from bar", min_value=1)
    last_bar = forms.IntegerField(label="to bar", min_value=1)
    times = forms.IntegerField(label="times", min_value=0, max_value=999, required=False)
    run_in = forms.IntegerField(label="run in", min_value=0, max_value=999, required=False)
    count_in = forms.IntegerField(label="count in", min_value=0, max_value=16, required=False)
    until_stop = forms.BooleanField(required=False)
    reference = forms.ChoiceField(label="click beside it", required=False)
    fast = forms.BooleanField(required=False)
    place = forms.BooleanField(required=False)
    led = forms.ChoiceField(label="begins", required=False)

    def __init__(self, *args, leader: str = "", plan: Plan, **kwargs) -> None:
        """leader: the name of the box that leads, "" = none does."""
        # Sheets beside it have fields of the same names: every label finds its own.
        super().__init__(*args, auto_id="pass_%s", **kwargs)
        straight = [(one.uid, f"by {one.name}") for one in plan.loops if not one.box]
        self.fields["reference"].choices = [("", "none"), *straight]
        self.fields["led"].choices = [("", "at once"), (WITH_A_NOTE, "when you play a note")]
        if leader:
            self.fields["led"].choices += [
                (TO_THE_BAR, f"when {leader} starts"),
                (UNTIL_STOP, f"when {leader} starts, until it stops"),
            ]

    def asked(self) -> dict:
        """The same as `recording.start_pass` takes it, once it is valid."""
        chosen = {name: self.cleaned_data[name] for name in ("first_bar", "last_bar", "fast", "until_stop")}
        chosen |= {name: self.cleaned_data[name] for name in ("reference", "led")}
        chosen |= {name: self.cleaned_data[name] or 0 for name in ("run_in", "count_in")}
        times = self.cleaned_data["times"]
        return chosen | {"times": 1 if times is None else times, "place_takes": self.cleaned_data["place"]}
