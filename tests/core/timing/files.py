"""Scores and recordings as files, good and faulty, written for a test into a folder of its own."""

from pathlib import Path

import mido
import numpy as np
import soundfile

from tests.core.timing.generated import Case, irregular, lay_down

US = 500_000
TPQ = 480


def score_file(path: Path, *tracks: tuple[str, int, np.ndarray]) -> list[np.ndarray]:
    """A type 1 file with a conductor track and tracks of (name, channel, seconds of notes); the seconds as ticks have
    them."""
    file = mido.MidiFile(type=1, ticks_per_beat=TPQ)
    file.tracks.append(mido.MidiTrack([mido.MetaMessage("set_tempo", tempo=US)]))
    exact = []
    for name, channel, seconds in tracks:
        track = mido.MidiTrack([mido.MetaMessage("track_name", name=name)])
        ticks = np.rint(np.asarray(seconds) * 1e6 / US * TPQ).astype(int)
        now = 0
        for tick in ticks.tolist():
            track.append(mido.Message("note_on", channel=channel - 1, note=40, velocity=90, time=tick - now))
            track.append(mido.Message("note_off", channel=channel - 1, note=40, time=10))
            now = tick + 10
        file.tracks.append(track)
        exact.append(ticks * US / 1e6 / TPQ)
    file.save(path)
    return exact


def pair_of_files(folder: Path, *, seed: int = 3, name: str = "take.wav", subtype: str = "PCM_24", **case):
    """(score, recording, true median in ms) of a drum that answers an irregular pattern."""
    score, recording = folder / "score.mid", folder / name
    (notes,) = score_file(score, ("Kit", 10, irregular(32, seed=seed)))
    signal, _, truth = lay_down(Case(**{"kind": "drum", "notes": notes, **case}))
    soundfile.write(recording, signal, case.get("rate", 48000), subtype=subtype)
    return score, recording, float(np.nanmedian(truth))
