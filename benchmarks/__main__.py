"""`python -m benchmarks`: each measurement beside its reference, imports excluded, the best of a few runs.

Absolute times are this machine's; only the ratios say something.
"""

import io
import json
import os
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import librosa
import mido
import numpy as np
import soundfile
from scipy.signal import correlate

from benchmarks.clocks import best_of
from benchmarks.devices import a_minute_of_jack
from benchmarks.dragging import tell_dragging
from hypotaxis.core.formats.smf import read_smf, write_smf
from hypotaxis.core.formats.smf_traffic import read_traffic
from hypotaxis.core.midi.wire import send
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.rig.trips import heard_from
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.sync.course import Course
from hypotaxis.core.sync.sending import tick_ns
from hypotaxis.core.timing.lateness import measure
from hypotaxis.core.timing.moments import distinct_moments
from hypotaxis.core.timing.recording import HeldRecording
from hypotaxis.core.timing.wires import wire_report
from tests.core.timing.spreads import SPREADS, coverage
from tests.rooms import large_room

RATE = 48_000
ROOT = Path(__file__).parents[1]
# A small process between, since a child's peak counts what its parent held when it was started.
_WATCHED = (
    "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True); "
    "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
)


def hits_at(seconds: np.ndarray, length_s: float) -> np.ndarray:
    """A struck sound at each time, float32."""
    signal = np.zeros(int(length_s * RATE), dtype=np.float32)
    age = np.arange(int(0.1 * RATE)) / RATE
    for begin in seconds.tolist():
        first = int(np.ceil(begin * RATE))
        late = first / RATE - begin
        signal[first : first + len(age)] += np.exp(-(age + late) * 40) * np.cos(2 * np.pi * 900 * (age + late)) * 0.5
    return signal + 1e-4 * np.random.default_rng(1).standard_normal(len(signal)).astype(np.float32)


def notes(count: int, length_s: float) -> np.ndarray:
    """Seconds of uneven notes that fill a length."""
    gaps = np.random.default_rng(2).uniform(0.6, 1.4, count)
    return 0.5 + np.cumsum(gaps) * (length_s - 2) / gaps.sum()


def lateness_of_three_minutes() -> None:
    """3 min of 48 kHz mono with 1,000 notes: ours against librosa's onset detector on the same samples."""
    at = notes(1000, 180)
    played = at + 0.0142 + 0.0003 * np.random.default_rng(3).standard_normal(len(at))
    signal = hits_at(played, 180)
    moments = distinct_moments(at * RATE, RATE)
    recording = HeldRecording(signal, RATE)
    ours = best_of(lambda: measure(recording, moments))
    theirs = best_of(lambda: librosa.onset.onset_detect(y=signal, sr=RATE, units="samples"))
    truth = float(np.median(played - at)) * RATE
    found = measure(recording, moments).samples
    onsets = librosa.onset.onset_detect(y=signal, sr=RATE, units="samples")
    nearest = np.array([onsets[np.argmin(np.abs(onsets - p * RATE))] for p in played])
    detector = float(np.median(nearest - at * RATE))
    tell("lateness, 3 min mono, 1,000 notes", ours, theirs, "librosa's onset detector")
    print(f"    error of the median: {found - truth:+.2f} samples, librosa's {detector - truth:+.0f} samples")


def one_hour_of_stereo() -> None:
    """Peak memory of the whole measuring process for an hour of stereo."""
    at = np.rint(notes(7000, 3600) * 1000) / 1000
    with tempfile.TemporaryDirectory() as folder:
        score, sound = Path(folder) / "hour.mid", Path(folder) / "hour.wav"
        rows = np.zeros(len(at), dtype=NOTE)
        rows["tick"], rows["duration"], rows["note"], rows["velocity"] = np.rint(at * 1000), 50, 36, 100
        part = ScorePart("Hour", 10, rows, no_controls())
        score.write_bytes(write_smf(Score(TempoMap(500, ((0, 500_000),)), (part,), 3_600_000)))
        with soundfile.SoundFile(sound, "w", RATE, 2, "PCM_24") as stream:
            for minute in range(60):
                inside = at[(at >= minute * 60) & (at < minute * 60 + 60)] - minute * 60 + 0.0142
                block = hits_at(inside[inside < 59.9], 60)
                stream.write(np.stack([block, 0.7 * block], axis=1))
        wish = {
            "score": str(score),
            "recording": str(sound),
            "track": None,
            "channel": None,
            "side": "auto",
            "impulses": False,
        }
        wish |= {"picture": True, "against": None}
        wish = {"reader": "hypotaxis.core.timing.apart:read_and_measure", "wish": wish}
        wish |= {"memory": 3 * 2**30, "seconds": 1800}
        began = time.perf_counter()
        command = [sys.executable, "-c", _WATCHED, sys.executable, "-m", "hypotaxis.core.apart"]
        environment = os.environ | {"OPENBLAS_NUM_THREADS": "1"}
        out = subprocess.run(
            command, input=json.dumps(wish).encode(), stdout=subprocess.PIPE, cwd=ROOT, env=environment, check=True
        ).stdout
        seconds = time.perf_counter() - began
        *_, answer, peak_kb = out.splitlines()
        peak, found = int(peak_kb) / 1024, json.loads(answer)["result"]
    samples_mb = 3600 * RATE * 2 * 4 / 2**20
    print(f"lateness, 1 h stereo, {found['matched']} notes: peak {peak:.0f} MB, {peak / samples_mb:.2f} of its samples")
    print(f"    in {seconds:.1f} s, {3600 / seconds:.0f} times its own speed; {found['offset_ms']:+.3f} ms of +14.2")


def reading_a_score() -> None:
    """100,000 events: reading and splitting against mido's parsing alone."""
    count = 50_000
    rows = np.zeros(count, dtype=NOTE)
    rows["tick"], rows["duration"], rows["velocity"] = np.arange(count) * 60, 40, 90
    rows["note"] = 36 + np.arange(count) % 48
    data = write_smf(Score(TempoMap(), (ScorePart("Long", 1, rows, no_controls()),), count * 60))
    ours = best_of(lambda: read_smf(data), 3)
    theirs = best_of(lambda: mido.MidiFile(file=io.BytesIO(data)), 3)
    tell("score of 100,000 events", ours, theirs, "mido's parsing, which it contains")
    read = best_of(lambda: read_traffic(data, clock=True), 3)
    traffic = read_traffic(data, clock=True)
    queued = best_of(lambda: wire_report(send(traffic, running_status=True)), 3)
    tell("wire: 100,000 events scheduled with clock", queued, theirs, "mido's parsing of the file")
    tell("wire: the same, reading the file included", read + queued, theirs, "mido's parsing of the file")


def growth() -> None:
    """What grows with a studio, at three sizes, and the least that the same costs."""
    found = json.loads(_with_a_database("benchmarks.growth"))
    rigs, names, drawing, starts = (found[name] for name in ("rigs", "names", "drawing", "starts"))
    told = ", ".join(f"{boxes} boxes {row['rules'] * 1000:.0f} ms" for boxes, row in rigs.items())
    print(f"rules: {told}; twice the boxes cost {rigs['400']['rules'] / rigs['200']['rules']:.2f} times")
    row = rigs["400"]
    print(
        f"rig of 400 boxes: read {row['read'] / row['bare']:.1f} times its bare JSON, stored in {row['stored']:.2f} s;"
    )
    print(f"    twice the boxes cost {row['stored'] / rigs['200']['stored']:.2f} times")
    searched = ", ".join(f"{count} names {row['page'] * 1000:.1f} ms" for count, row in names.items())
    print(f"search, the fragment included: {searched}; the database alone {found['bare search'] * 1000:.1f} ms")
    zooms = ", ".join(f"{seconds * 1000:.1f} ms" for seconds in drawing["zooms"].values())
    print(
        f"a take of four hours at 1 to 30,000 times: {zooms}; {drawing['zooms']['1'] / drawing['bare']:.2f} of reading"
    )
    strips = ", ".join(f"{count} notes {seconds * 1000:.1f} ms" for count, seconds in drawing["strips"].items())
    print(f"strips: {strips}")
    floor = starts.pop("django") + starts.pop("numpy")
    commands = ", ".join(f"{name} {seconds:.2f} s ({seconds / floor:.1f})" for name, seconds in starts.items())
    print(f"start of a command (of Django and NumPy alone): {commands}")


def traces() -> None:
    """Every trace of 200 boxes, 1,600 sockets, 670 cables."""
    plan = large_room()
    sends = [end.socket.uid for end in ports_of(plan.rig, "out")]

    def every() -> None:
        rig = replace(plan.rig)
        for uid in sends:
            heard_from(rig, uid)

    print(f"a trace of one of {len(sends)} ports {best_of(every) / len(sends) * 1000:.3f} ms")


def correlating() -> None:
    """A minute of struck notes: ours, which knows nothing of the sound, beside a correlation with that very sound."""
    at = notes(330, 60)
    signal, probe = hits_at(at + 0.0142, 60), hits_at(np.array([0.0]), 0.1)
    moments = distinct_moments(at * RATE, RATE)
    ours = best_of(lambda: measure(HeldRecording(signal, RATE), moments), 3)
    tell(
        "lateness of a minute", ours, best_of(lambda: correlate(signal, probe, "valid", "fft"), 3), "an FFT correlation"
    )


def pages() -> None:
    """What every page and poll costs at several sizes, and how it grows."""
    sizes = ("demo", "100 takes", "500 takes", "50", "200", "400")
    found = {size: json.loads(_with_a_database("benchmarks.pages", size)) for size in sizes}
    told = "pages, ms of computing right after a change / when nothing has changed (queries)"
    print(f"{told}: {', '.join(f'{size} boxes' if size.isdigit() else size for size in sizes)}")
    for name in found["demo"]:
        rows = [found[size].get(name) for size in sizes]
        print(f"    {name}: " + ", ".join(f"{r[0]:.0f} / {r[1]:.0f} ({r[2]})" if r else "–" for r in rows))


def keeping_step() -> None:
    """Exact times of clocks, and the page that shows who keeps step."""
    tempo = TempoMap(480, tuple((480 * 144 * part, 498_113 + 37 * part) for part in range(200)))
    course = Course(tempo=tempo, begin=0, loop=(0, 28_800 * 480))
    ticks, ticks_at = best_of(lambda: tick_ns(course)), tick_ns(course)
    bare = best_of(lambda: np.cumsum(np.full(len(ticks_at), 20_833_333)))
    page = float(_with_a_database("benchmarks.lattice"))
    print(f"691,200 clocks of four hours with 200 tempos: {ticks:.3f} s, {ticks / bare:.0f} times adding them up")
    print(f"the lattice of 20 boxes, 64 times round: {page * 1000:.0f} ms")


def a_long_part() -> None:
    """Notes opened and mended, against a part of a tenth."""
    found = json.loads(_with_a_database("benchmarks.part"))
    small, large = found["5000"], found["50000"]
    for name, told in (("opened", "opened"), ("moved", "a note moved")):
        grown = large[name] / small[name]
        print(f"a part of 50,000 notes, {told}: {large[name] * 1000:.0f} ms, {grown:.2f} of one of 5,000")


def many_names() -> None:
    """Importing patch lists."""
    found = json.loads(_with_a_database("benchmarks.names"))
    print(f"16 lists of 2,000 names read and stored: {found['import']:.2f} s")


def a_pass() -> None:
    """What an hour of the stand-in costs, and what lies between the end of a pass and its placed takes."""
    found = json.loads(_with_a_database("benchmarks.passes"))
    hour, run = found["hour"], found["pass"]
    print(f"pass: an hour of 8 inputs, the last minute costs {hour['last'] / hour['first']:.2f} of the second one;")
    print(f"    {3600 / hour['all']:.0f} times real time a core, peak {hour['peak_mb']:.0f} MB")
    told = f"{run['stand']} of {run['takes']} takes placed"
    print(f"end of an hour's pass, {told}: {3600 / run['placed']:.0f} times real time ({run['placed']:.1f} s, of which")
    print(f"    {run['made']:.1f} s until they were there), {run['placed'] / run['bare']:.1f} bare readings of a take")


def line_checks() -> None:
    """500 random desks of 3 to 20 boxes with a mistake planted, and sound ones."""
    found = json.loads(_with_a_database("benchmarks.linecheck"))
    told = f"right class {found['right class']:.3f}, cause among three {found['among three']:.3f}"
    print(f"line check, {found['desks']} desks: {told}, first {found['first, told apart']:.3f} of those told apart,")
    print(f"    {found['false alarms']} false alarms on {found['sound desks']} sound desks")


def _with_a_database(module: str, *asked: str) -> str:
    """The last line that a module prints which runs on a data folder of its own."""
    with tempfile.TemporaryDirectory() as data:
        environment = os.environ | {"HYPOTAXIS_DATA": data, "DJANGO_SETTINGS_MODULE": "hypotaxis.web.settings"}
        command = [sys.executable, "-m", module, *asked]
        out = subprocess.run(command, stdout=subprocess.PIPE, cwd=ROOT, env=environment, check=True).stdout
    return out.decode().strip().splitlines()[-1]


def tell(what: str, ours: float, theirs: float, reference: str) -> None:
    """One line: ratio first, then this machine's times."""
    print(f"{what}: {ours / theirs:.2f} of {reference} ({ours:.3f} s against {theirs:.3f} s)")


def intervals() -> None:
    """1,000 draws of every spread: how often the stated intervals hold, and how wide they are against exact ones."""
    for spread in SPREADS:
        for count, outliers in (*((n, False) for n in (5, 8, 12, 24, 64)), *((n, True) for n in (10, 20, 64))):
            found = coverage(spread, count, 1000, outliers=outliers)
            held = ", ".join(f"{name} {share:.3f}" for name, share in found.held.items())
            widths = ", ".join(f"{name} {width:.2f}" for name, width in found.width.items())
            odd = ", 15 % odd ones" if outliers else ""
            print(f"intervals, {spread}, {count} hits{odd}: hold {held}; width of exact {widths}")


if __name__ == "__main__":
    intervals()
    lateness_of_three_minutes()
    one_hour_of_stereo()
    reading_a_score()
    correlating()
    growth()
    traces()
    pages()
    keeping_step()
    a_long_part()
    many_names()
    a_pass()
    line_checks()
    a_minute_of_jack()
    tell_dragging()
