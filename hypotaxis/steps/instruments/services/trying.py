"""Try-out: the worker plays a note and listens on every input."""

import io
from collections.abc import Sequence
from contextlib import closing
from dataclasses import replace

import numpy as np
import soundfile

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.midi.messages import channel_of
from hypotaxis.core.midi.shaping import in_words, shaped
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.playing.gain import gain_advice
from hypotaxis.core.playing.keys import Echo, echo_rules
from hypotaxis.core.playing.plain_sound import plain_sound
from hypotaxis.core.playing.tryout import (
    DEMO_S,
    KEYS_S,
    LOUDEST_CHORD,
    VOICES,
    Heard,
    InputHeard,
    PlayedNote,
    TryOut,
    TryOutWish,
    explain,
    explain_demo,
    explain_silent_keys,
    looped,
    plan_tryout,
    together,
)
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.rig.trips import return_sockets
from hypotaxis.core.session.listening import InputMeter
from hypotaxis.core.studio import Block, Message, RunSetup, Studio, Written
from hypotaxis.core.sync.following import standing_clock
from hypotaxis.core.units import db_to_factor, factor_to_db, stored_db
from hypotaxis.records.audio import folder
from hypotaxis.records.jobs import begin, hand_over, running, work
from hypotaxis.records.models import Job, Rig, Track
from hypotaxis.records.patch_lists import calls_of
from hypotaxis.records.plan import load_plan, notes_of, standing_pace
from hypotaxis.records.studio import studio_for

KEPT = 20
KINDS = ("note", "chord", "pattern", "demo", "keys")
MOST_TOLD = 64
"""Notes of a try-out that are kept with it, to be heard on the plain sound."""
MOST_SHOWN = 16
"""Messages of a try-out that are written out."""
PATTERN_BARS = 2
PLAIN_RATE = 48_000
QUIET_FRAMES = 1000
"""Frames at the beginning of a try-out in which nothing is played yet."""


def start_tryout(rig: Rig, instrument_uid: str, wish: TryOutWish) -> Job:
    """Ask the worker for a try-out."""
    job = begin("try-out", about=instrument_uid, request={"wish": to_json(wish), "rig": str(rig.uid)})
    _forget_old()
    hand_over(job)
    return job


def wish_of(job: Job) -> TryOutWish:
    """What a try-out was asked for."""
    return from_json(TryOutWish, job.request["wish"])


def heard_of(job: Job) -> Heard:
    """What a try-out has shown so far."""
    return from_json(Heard, job.result)


def _keep(job: Job, heard: Heard) -> None:
    job.result = to_json(heard)
    job.save(update_fields=["result"])


def sound_path(job_uid: str):
    """Where the sound of a try-out is kept."""
    return folder("tryouts") / f"{job_uid}.wav"


@work("try-out")
def play(job_uid: str) -> None:
    """The task: play, listen, keep what came home."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        job = reporter.job
        plan = load_plan(Rig.objects.get(uid=job.request["rig"]))
        instrument = plan.instrument(job.about)
        wish = wish_of(job)
        tryout = _planned(plan, instrument, wish)
        heard = Heard(
            send=plan.rig.socket_text(instrument.send),
            bytes=_written(tryout.messages),
            more=max(0, len(tryout.messages) - MOST_SHOWN),
            played=tryout.played[:MOST_TOLD],
        )
        blocks = []
        with studio_for(plan) as studio:
            listened = _inputs(plan, studio)
            kept = [place for place, (uid, _, _) in enumerate(listened) if uid in instrument.returns]
            rate = studio.sample_rate
            hold = round(wish.hold_s * rate)
            meters = [InputMeter(name, hold_frames=hold) for _, _, name in listened]
            frames = round(tryout.seconds * rate)
            names = [system for _, system, _ in listened]
            # A pattern loops for the ear and for the hand on the level: never faster than real time.
            fast = wish.fast and wish.kind != "pattern" and studio.hurries
            played = _Played(plan, instrument) if wish.kind == "keys" else None
            asked = RunSetup(inputs=tuple(names), frames=frames, fast=fast, echo=played.echo.rules if played else ())
            clock = standing_clock(plan, standing_pace(job.request["rig"]), tryout.seconds)
            with closing(studio.run(Written([*tryout.messages, *clock]), asked)) as run:
                for block in run:
                    if played:
                        played.hear(block)
                    blocks.append(block.samples[:, kept].copy())
                    for column, meter in enumerate(meters):
                        meter.feed(block.samples[:, column])
                    if reporter.due():
                        _reset_where_asked(job, meters)
                        _keep(job, replace(heard, inputs=_heard_at(listened, meters, instrument)))
                        reporter.report((block.start + len(block.samples)) / frames)
        heard = replace(heard, inputs=_heard_at(listened, meters, instrument))
        explained = explain_demo if wish.kind == "demo" else explain
        verdict, causes = explained(plan, instrument, heard.moved)
        if played:
            heard = played.heard(heard)
            if not played.came:
                verdict, causes = explain_silent_keys(plan, instrument)
        if wish.kind == "chord":
            heard = replace(heard, gain=_gain([meters[place] for place in kept], blocks))
        home = any(uid in heard.moved for uid in instrument.inputs)
        _keep(job, replace(heard, verdict=verdict, causes=tuple(causes), home=home))
        if kept:
            turned = -1 if instrument.inverted else 1
            sound = np.concatenate(blocks) * db_to_factor(instrument.home_trim_db) * turned
            soundfile.write(sound_path(job_uid), np.clip(sound, -1, 1), rate, subtype="PCM_24")


class _Played:
    """What is played while a try-out runs: what came in for the instrument, and what left for it."""

    def __init__(self, plan: Plan, instrument: Instrument) -> None:
        self.plan, self.echo = plan, Echo(echo_rules(plan, instrument))
        self.mine = instrument.uid
        self._ends = {(rule.out, rule.channel) for rule in self.echo.rules if rule.of == instrument.uid}
        self.came: list[Message] = []
        self.left: list[Message] = []

    def hear(self, block: Block) -> None:
        """Keep what is its own; what plays another instrument by a standing line leaves, too, and is not told here."""
        for message in block.received:
            if any(rule.of == self.mine for rule in self.echo.rules_for(message)):
                self.came.append(message)
        self.left += [one for one in block.sent if (one.port, channel_of(one.data[0])) in self._ends]

    def heard(self, heard: Heard) -> Heard:
        """The same with what came in by which port, and what left."""
        names = {
            end.socket.system_name: self.plan.rig.socket_text(end.socket.uid) for end in ports_of(self.plan.rig, "in")
        }
        ports = dict.fromkeys(names.get(message.port, message.port) for message in self.came)
        return replace(
            heard,
            came_by=" and ".join(ports),
            came=_written(self.came),
            bytes=_written(self.left),
            more=max(0, len(self.left) - MOST_SHOWN),
        )


def _written(sent: Sequence[Message]) -> tuple[str, ...]:
    return tuple(message.data.hex(" ").upper() for message in sent[:MOST_SHOWN])


def _planned(plan: Plan, instrument: Instrument, wish: TryOutWish) -> TryOut:
    """What is sent: a note, the loudest chord, a pattern again and again, or nothing while the box plays its demo."""
    kind = wish.kind
    if kind in ("demo", "keys"):
        return TryOut((), DEMO_S if kind == "demo" else KEYS_S)
    if kind == "pattern":
        notes = _pattern(plan, instrument, wish)
    elif kind == "chord":
        notes = together([(note, 127) for note in _chord_of(plan, instrument)], wish.length_s)
    else:
        notes = together(shaped(wish.note, wish.velocity, instrument.shaping), wish.length_s)
    if not notes:
        how = in_words(instrument.shaping)
        raise CannotSchedule(f"Nothing was sent: note {wish.note} is not let through ({how}).")
    return plan_tryout(plan, instrument, notes, calls=calls_of(instrument))


def _pattern(plan: Plan, instrument: Instrument, wish: TryOutWish) -> list[PlayedNote]:
    """What really plays on an instrument: the first two bars with notes of its track in the session; without one the
    loudest chord, twice a second."""
    track = Track.objects.filter(session__uid=wish.session or None, instrument_uid=instrument.uid).first()
    notes = notes_of(track) if track else ()
    if not len(notes):
        chord = [(note, 100) for note in _chord_of(plan, instrument)]
        return looped(together(chord, 0.25), 0.5)
    tempo = track.session.tempo_map
    first = tempo.bar_tick(tempo.position(int(notes["tick"].min())).bar)
    end = tempo.bar_tick(tempo.position(first).bar + PATTERN_BARS)
    inside = notes[(notes["tick"] >= first) & (notes["tick"] < end)]
    zero_s, end_s = (float(tempo.us_at(tick)) / 1e6 for tick in (first, end))
    starts = tempo.us_at(inside["tick"]) / 1e6 - zero_s
    lengths = tempo.us_at(np.minimum(inside["tick"] + inside["duration"], end)) / 1e6 - zero_s - starts
    rows = zip(starts, lengths, inside["note"], inside["velocity"], strict=True)
    return looped([PlayedNote(float(s), float(d), int(n), int(v)) for s, d, n, v in rows], end_s - zero_s)


def ask_to_reset(job: Job) -> None:
    """Ask a running try-out to let go of its held peaks and clip marks."""
    Job.objects.create(kind="meters", about=str(job.uid))


def _reset_where_asked(job: Job, meters: list[InputMeter]) -> None:
    asked, _ = Job.objects.filter(kind="meters", about=str(job.uid)).delete()
    for meter in meters if asked else ():
        meter.reset()


def plain_wave(job: Job) -> bytes:
    """The notes of a try-out on the plain built-in sound, as a WAV file."""
    made = io.BytesIO()
    soundfile.write(made, plain_sound(heard_of(job).played, PLAIN_RATE), PLAIN_RATE, format="WAV", subtype="PCM_16")
    return made.getvalue()


def _chord_of(plan: Plan, instrument: Instrument) -> tuple[int, ...]:
    """The loudest that an instrument is played: a chord, or of a drum machine all its voices."""
    box = plan.rig.box(instrument.box)
    return tuple(VOICES.values()) if box and box.shape == "drum-machine" else LOUDEST_CHORD


def _gain(meters: list[InputMeter], blocks: list[np.ndarray]) -> str:
    """What the loudest chord says about the gain: the loudest return, against the noise before the chord."""
    if not meters:
        return ""
    loudest = max(range(len(meters)), key=lambda column: meters[column].peak_db)
    quiet = blocks[0][:QUIET_FRAMES, loudest]
    floor = factor_to_db(float(np.sqrt(np.mean(quiet.astype(np.float64) ** 2))))
    return gain_advice(meters[loudest].peak_db, floor, sum(meter.clips for meter in meters))


def _inputs(plan: Plan, studio: Studio) -> list[tuple[str, str, str]]:
    """(socket uid, system name, name) of every input that the studio reports."""
    there = set(studio.inputs())
    sockets = (socket for _, socket in return_sockets(plan.rig) if socket.system_name in there)
    return [(socket.uid, socket.system_name, socket.name) for socket in sockets]


def _heard_at(listened: list, meters: list[InputMeter], instrument: Instrument) -> tuple[InputHeard, ...]:
    named = {uid: back.name for back in instrument.further for uid in back.inputs}
    return tuple(
        InputHeard(
            uid=uid,
            name=f"{name}, {named[uid]}" if named.get(uid) else name,
            level=stored_db(meter.level_db),
            peak=stored_db(meter.held_db),
            clips=meter.clips,
            moved=meter.moved,
            mine=uid in instrument.inputs,
        )
        for (uid, _, name), meter in zip(listened, meters, strict=True)
    )


def _forget_old() -> None:
    old = Job.objects.filter(kind="try-out").order_by("-made")[KEPT:]
    for job in old:
        sound_path(str(job.uid)).unlink(missing_ok=True)
    Job.objects.filter(uid__in=[job.uid for job in old]).delete()
