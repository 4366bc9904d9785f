"""A box whose truth is known, as a JACK client of its own: `python -m tests.devices.truth SERVER NAME`.

A note on is answered by a click with its middle REACTION frames later; audio in comes out LOOP frames later. What
arrives by its MIDI input is written to standard output, a line of hexadecimal bytes each.
"""

import gc
import signal
import sys
import time
from collections import deque

import jack
import numpy as np

REACTION, LOOP = 100, 777
CLICK = np.hanning(33).astype(np.float32) * 0.5


def main(server: str, name: str) -> None:
    gc.disable()
    client = jack.Client(name, no_start_server=True, servername=server)
    notes, keys = client.midi_inports.register("notes"), client.midi_outports.register("keys")
    clicks, back, into = (
        client.outports.register("clicks"),
        client.outports.register("back"),
        client.inports.register("into"),
    )
    heard: deque[bytes] = deque()
    pressed: list[int] = []
    coming = np.zeros(1 << 16, np.float32)
    line = np.zeros(LOOP, np.float32)

    @client.set_process_callback
    def process(frames):
        nonlocal coming, line
        keys.clear_buffer()
        for offset, data in notes.incoming_midi_events():
            data = bytes(data)
            heard.append(data)
            if data[0] & 0xF0 == 0x90 and data[2]:
                at = offset + REACTION - len(CLICK) // 2
                coming[at : at + len(CLICK)] += CLICK
            if data == b"\xf0\x7d\x01\xf7":
                # Asked to play a key.
                keys.write_midi_event(offset, b"\x90\x3c\x64")
            if data[0] >= 0xF8:
                # What it is clocked by it passes on.
                keys.write_midi_event(offset, data)
        while pressed:
            keys.write_midi_event(pressed.pop(), b"\x90\x3c\x64")
        clicks.get_array()[:] = coming[:frames]
        coming = np.concatenate([coming[frames:], np.zeros(frames, np.float32)])
        line = np.concatenate([line, into.get_array()])
        back.get_array()[:] = line[:frames]
        line = line[frames:]

    # Asked to end, it leaves the server as a program does that is closed.
    signal.signal(signal.SIGTERM, lambda *given: sys.exit())
    signal.signal(signal.SIGUSR1, lambda *given: pressed.append(17))
    with client:
        print("ready", flush=True)
        while True:
            time.sleep(0.01)
            while heard:
                print(heard.popleft().hex(), flush=True)


if __name__ == "__main__":
    main(*sys.argv[1:])
