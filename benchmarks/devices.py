"""Eight inputs of a JACK server for a minute: what the device process costs, and whether anything was lost."""

import os
import resource
import time
from pathlib import Path

import numpy as np

from hypotaxis.core.studio import RunSetup, Written
from hypotaxis.devices.studio import DeviceStudio
from tests.devices.desk import RATE, a_desk

SECONDS, INPUTS = 60, 8


def a_minute_of_jack() -> None:
    """CPU as shares of the minute, memory at the end; on a synchronous server, without the rights of real time."""
    with a_desk() as (_, _, process):
        studio = DeviceStudio(process)
        names = tuple(f"system:capture_{number}" for number in range(1, INPUTS + 1))
        ours, theirs = time.process_time(), _cpu_s(process.pid)
        frames = 0
        for block in studio.run(Written(), RunSetup(inputs=names, frames=SECONDS * RATE)):
            frames += len(np.asarray(block.samples))
        device = (_cpu_s(process.pid) - theirs) / SECONDS
        worker = (time.process_time() - ours) / SECONDS
        told = studio.told
        print(f"JACK, {INPUTS} inputs for {SECONDS} s: {told.lost} of {frames} frames lost, {told.xruns} xruns;")
        peak_mb = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"    device process {device:.3f} of a core, {_memory_mb(process.pid):.0f} MB;")
        print(f"    worker {worker:.3f} of a core, {peak_mb:.0f} MB at the most")


def _cpu_s(pid: int) -> float:
    """Processor time of a process, of all its threads (proc(5), fields 14 and 15 of stat)."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def _memory_mb(pid: int) -> float:
    """Resident memory (proc(5), second field of statm, in pages)."""
    return int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 1e6
