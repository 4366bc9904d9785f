"""`python -m tests.hammer.power CUTS`: power that goes, as the disk knows it; ends with 1 where anything was lost.

The data folder lies on a file system of its own, in a file (a loop device: Linux, root). What had not reached that disk
when power went is what is missing in a copy of the file, taken while everything goes on: the kernel's memory is not in
it. The copy is mounted as a computer would after power came back, and the program is started on it.
"""

import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.hammer.__main__ import Round, arm
from tests.hammer.studio import Broken, OwnStudio

DISK_MB = 192
MOST_COPIES = 40


@contextmanager
def mounted(disk: Path, folder: Path) -> Iterator[Path]:
    """A disk's content."""
    folder.mkdir(exist_ok=True)
    subprocess.run(["mount", "-o", "loop", str(disk), str(folder)], check=True)
    try:
        yield folder
    finally:
        subprocess.run(["umount", "--lazy", str(folder)], check=True)


def cut(disk: Path, copy: Path) -> None:
    """The disk as power leaves it: two copies that are alike, so that nothing was written between their halves."""
    before = b""
    for _ in range(MOST_COPIES):
        now = disk.read_bytes()
        if now == before:
            copy.write_bytes(now)
            return
        before = now
    raise Broken("the disk was never at rest for the blink of an eye")


def one_cut(folder: Path, number: int) -> str:
    """Add boxes and record passes, let power go in the middle, look what is left; what there was, in words."""
    disk, left, draw = folder / "disk", folder / "left", random.Random(number)
    subprocess.run(["truncate", "--size", f"{DISK_MB}M", str(disk)], check=True)
    subprocess.run(["mkfs.ext4", "-q", "-F", str(disk)], check=True)
    with mounted(disk, folder / "before") as place:
        studio = OwnStudio(place / "data")
        if studio.start() is None:
            raise Broken("it does not start at all")
        studio.end()
        arm(studio)
        played = Round(studio, number)
        browser = played.started()
        played.record(browser)
        for turn in range(draw.randint(2, 5)):
            played.add_boxes(browser, draw.randint(1, 3), who=f"p{turn}")
            time.sleep(draw.uniform(0, 1.5))
        takes = set(studio.query("SELECT uid, file FROM records_take"))
        boxes = set(played.confirmed)
        cut(disk, left)
        studio.kill(worker=False)
    with mounted(left, folder / "after") as place:
        studio = OwnStudio(place / "data")
        again = Round(studio, number)
        again.confirmed = boxes
        again.started()
        studio.settled()
        studio.end()
        again.holds()
        if lost := takes - set(studio.query("SELECT uid, file FROM records_take")):
            raise Broken(f"takes that were there, and are gone: {lost}")
    return f"{len(boxes)} boxes and {len(takes)} takes"


def main(cuts: int) -> int:
    """How many cuts lost anything."""
    if not hasattr(os, "geteuid") or os.geteuid() != 0:
        print("A disk of its own can be mounted by root only, on Linux.")
        return 1
    failed = 0
    for number in range(cuts):
        with tempfile.TemporaryDirectory(prefix="hypotaxis-power-") as folder:
            try:
                print(f"cut {number}: {one_cut(Path(folder), number)} were confirmed, and are there")
            except Broken as error:
                failed += 1
                print(f"cut {number}: {error}")
    return failed


if __name__ == "__main__":
    sys.exit(1 if main(int(sys.argv[1])) else 0)
