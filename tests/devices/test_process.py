"""What the device process says when a library of the system fails in it."""

import threading
from multiprocessing.connection import Connection, Pipe
from types import SimpleNamespace
from unittest import mock

from django.test import SimpleTestCase

from hypotaxis.core.studio import JACK, RunSetup, Wanted
from hypotaxis.devices import process
from hypotaxis.devices.portable_engine import PortableEngine
from hypotaxis.devices.process import serve
from hypotaxis.devices.protocol import Begin, Look, Open


class BindingError(OSError):
    """As one of RtMidi's: an error of the operating system, too."""


class Engine:
    """One that has no studio, and fails as it is told to."""

    refusal = (BindingError,)
    gone_words, failed, stalled = "", "", False

    def __init__(self, fails: Exception) -> None:
        self.fails, self.gone, self.xruns, self.ends = fails, threading.Event(), 0, 0

    def look(self):
        return "there"

    def begin(self, setup, sends):
        raise self.fails

    def end(self):
        self.ends += 1

    close = end


class ServeTest(SimpleTestCase):
    def served(self, fails: Exception) -> tuple[Connection, Engine, threading.Thread]:
        ours, theirs = Pipe()
        engine = Engine(fails)
        self.enterContext(mock.patch.object(process, "JackEngine", lambda wanted: engine))
        thread = threading.Thread(target=serve, args=(theirs,))
        thread.start()
        self.addCleanup(thread.join)
        self.addCleanup(ours.close)
        ours.send(Open(Wanted(kind=JACK)))
        ours.send(Begin(RunSetup(frames=1), ()))
        return ours, engine, thread

    def test_what_the_system_refuses_is_said_and_the_process_goes_on(self):
        ours, _, _ = self.served(BindingError("no client can be made"))
        self.assertIn("The studio refuses: no client can be made.", ours.recv().words)
        ours.send(Look())
        self.assertEqual(ours.recv(), "there")

    def test_what_fails_in_any_other_way_is_said_before_the_process_ends(self):
        with mock.patch.object(process.traceback, "print_exc") as kept:
            ours, engine, thread = self.served(OSError(28, "no room"))
            told = ours.recv()
            thread.join()
        self.assertEqual(told.kind, "ServerGone")
        self.assertIn("has failed (OSError: [Errno 28] no room)", told.words)
        self.assertEqual((kept.call_count, engine.ends), (1, 1))


class QuietTest(SimpleTestCase):
    def test_a_port_that_is_gone_does_not_keep_the_others_from_being_silenced(self):
        heard = []

        def gone(data):
            raise BindingError

        outs = {"a": SimpleNamespace(send=gone), "b": SimpleNamespace(send=heard.append)}
        engine = SimpleNamespace(_outs=outs, _rtmidi=SimpleNamespace(RtMidiError=BindingError))
        PortableEngine._quiet(engine, {"a": [b"\xb0\x7b\x00"], "b": [b"\xb1\x7b\x00"]})
        self.assertEqual(heard, [b"\xb1\x7b\x00"])
