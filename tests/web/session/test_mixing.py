"""Takes heard together: while the next pass is recorded, in the page, as a file."""

import io
from unittest import mock

import numpy as np
import soundfile
from wavinfo import WavInfoReader

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.mixing.desk import BEATS, Fader, Mixing
from hypotaxis.core.mixing.loudness import LoudnessMeter
from hypotaxis.records import audio
from hypotaxis.records.journal import undo
from hypotaxis.records.models import Job, Session, Take, Track
from hypotaxis.records.session_mix import SessionMix
from hypotaxis.standin.run import Run
from hypotaxis.steps.session.services import bouncing
from hypotaxis.steps.session.services.recording import heard_beside
from hypotaxis.web import studio_startup
from tests.web.base import DemoTest


class HeardTest(DemoTest):
    def before_all(self):
        self.record("Bittern", "Sedge upper", bars=(1, 4))

    def pair(self) -> tuple[str, str]:
        return self.socket("Quayside 18", "line out 1"), self.socket("Quayside 18", "line out 2")

    def mixing(self, **chosen) -> None:
        Session.objects.update(mix=to_json(Mixing(outputs=self.pair(), **chosen)))

    def newest(self) -> np.ndarray:
        take = Take.objects.order_by("number").last()
        return audio.read_frames(take.file, 0, take.frames)

    def passed_again(self) -> np.ndarray:
        """What a further pass of one track records; its jitter is drawn anew as before."""
        with mock.patch.object(studio_startup, "_runs", 7):
            self.record("Bittern", bars=(1, 4))
        return self.newest()

    def test_nothing_of_what_plays_gets_into_the_returns(self):
        quiet = self.passed_again()
        self.mixing(in_passes=True, click=BEATS, click_db=0.0)
        played = {}
        real = Run.__init__

        def listen(run, desk, source, setup, *args, **kwargs):
            real(run, desk, source, setup, *args, **kwargs)
            sound = source.sound

            def heard(output, start, frames):
                played.setdefault(output, []).append(sound(output, start, frames))
                return played[output][-1]

            source.sound = heard

        with mock.patch.object(Run, "__init__", listen):
            loud = self.passed_again()
        self.assertGreater(max(float(np.abs(np.concatenate(one)).max()) for one in played.values()), 0.05)
        np.testing.assert_array_equal(loud, quiet)

    def test_what_plays_stands_where_the_session_has_it_and_without_what_is_recorded(self):
        self.mixing(in_passes=True)
        run = self.record("Bittern", bars=(2, 4))
        sounds, _ = heard_beside(run, run.frozen)
        left = sounds[run.frozen.beside.outputs[0]](0, 96_000)
        other = SessionMix(self.session, rate=48_000, without=[str(self.track("Bittern").uid)])
        first = run.frozen.first_sample
        np.testing.assert_array_equal(left, other.read(first, first + 96_000)[:, 0])
        take = self.track("Sedge upper").takes.get()
        sound = audio.read_frames(take.sound_file[0], first - take.start, first - take.start + 96_000)
        np.testing.assert_allclose(left, sound[:, 0], atol=1e-7)

    def test_outputs_that_come_home_again_are_refused(self):
        self.mixing(in_passes=True)
        outputs = (self.socket("Quayside 18", "line out 3"), self.pair()[1])
        Session.objects.update(mix=to_json(Mixing(outputs=outputs, in_passes=True)))
        with self.assertRaisesRegex(CannotSchedule, "line out 3 feeds .*Eelgrass"):
            self.record("Bittern", bars=(1, 1))
        Session.objects.update(mix=to_json(Mixing(in_passes=True)))
        with self.assertRaisesRegex(CannotSchedule, "Choose on “Heard together” the outputs"):
            self.record("Bittern", bars=(1, 1))


class MixTest(DemoTest):
    def before_all(self):
        self.record("Bittern", "Sedge upper", bars=(1, 4))

    def mix(self, **chosen) -> SessionMix:
        return SessionMix(self.session, rate=48_000, **chosen)

    def test_solo_mute_level_and_group(self):
        both = self.mix().read(0, 48_000)
        Track.objects.filter(name="Bittern").update(mix=to_json(Fader(muted=True)))
        one = self.mix().read(0, 48_000)
        Track.objects.filter(name="Bittern").update(mix=to_json(Fader(soloed=True, level_db=-6.0)), group="low")
        other = self.mix().read(0, 48_000)
        np.testing.assert_allclose(one + other * 10 ** (6 / 20), both, atol=1e-9)
        Session.objects.update(mix=to_json(Mixing(groups={"low": Fader(muted=True)})))
        self.assertEqual(float(np.abs(self.mix().read(0, 48_000)).max()), 0.0)

    def test_the_stream_is_the_mix_to_the_sample_in_any_pieces(self):
        mix = self.mix()
        first, last = mix.span
        size = 44 + 4 * (last - first)
        got, at = b"", 0
        while at < size:
            answer = self.client.get("/session/mix/heard.wav", headers={"Range": f"bytes={at}-"})
            self.assertEqual(answer.status_code, 206)
            self.assertEqual(answer["Content-Range"], f"bytes {at}-{at + len(answer.content) - 1}/{size}")
            got += answer.content
            at = len(got)
        sound, rate = soundfile.read(io.BytesIO(got), dtype="int16")
        self.assertEqual((rate, sound.shape), (48_000, (last - first, 2)))
        np.testing.assert_array_equal(sound, np.rint(np.clip(mix.read(first, last), -1, 1) * 32767))
        odd = self.client.get("/session/mix/heard.wav", headers={"Range": "bytes=50001-50013"})
        self.assertEqual(odd.content, got[50_001:50_014])
        self.assertEqual(
            self.client.get("/session/mix/heard.wav", headers={"Range": f"bytes={size}-"}).status_code, 416
        )

    def test_as_they_arrived_each_is_later_by_its_placement(self):
        take = self.track("Bittern").takes.get()
        Track.objects.exclude(name="Bittern").update(mix=to_json(Fader(muted=True)))
        placed, arrived = self.mix().read(0, 96_000), self.mix(how="arrived").read(0, 96_000)
        shift = -take.placement
        np.testing.assert_array_equal(arrived[shift:], placed[: len(placed) - shift])

    def test_levels_are_the_peaks_of_what_is_heard(self):
        found = self.mix().levels(48_000, 96_000, 0.05)
        self.assertEqual(len(found[""].levels), 20)
        loudest = 20 * np.log10(np.abs(self.mix().read(48_000, 96_000)).max())
        self.assertAlmostEqual(max(found[""].levels), loudest, places=6)
        self.assertGreaterEqual(min(np.array(found[""].held) - np.array(found[""].levels)), 0.0)

    def test_what_is_not_heard_is_told_with_its_reason(self):
        Take.objects.filter(track__name="Bittern").update(placement=None)
        Take.objects.filter(track__name="Sedge upper").update(sample_rate=44_100)
        told = " ".join(self.mix().left_out)
        self.assertIn("Bittern: no take of it is placed", told)
        self.assertIn("Sedge upper: it was recorded at 44100 Hz, and the rig runs at 48000", told)
        self.assertIn("Sedge lower: no take yet", told)


class BounceTest(DemoTest):
    def before_all(self):
        self.record("Bittern", bars=(1, 4))

    def bounce(self, **fields):
        answer = self.client.post(
            "/session/mix/", {"to": "bounce", "first_bar": 1, "last_bar": 2, **fields}, follow=True
        )
        return answer, bouncing.newest(self.session)

    def test_the_file_holds_the_mix_and_says_how_loud_it_is(self):
        answer, job = self.bounce()
        made = bouncing.came_of(job)
        self.assertContains(answer, "1 track,")
        got = b"".join(self.client.get("/session/mix/mix.wav").streaming_content)
        sound, rate = soundfile.read(io.BytesIO(got))
        first = -rate // 2
        mix = SessionMix(self.session, rate=rate).read(first, first + len(sound))
        np.testing.assert_allclose(sound, mix, atol=1.01 / 2**23)
        meter = LoudnessMeter(rate, 2)
        meter.feed(sound)
        self.assertAlmostEqual(made.lufs, meter.integrated, places=1)
        self.assertEqual(WavInfoReader(io.BytesIO(got)).bext.time_reference, 0)

    def test_what_would_clip_is_turned_down_and_told(self):
        Track.objects.filter(name="Bittern").update(mix=to_json(Fader(level_db=12.0)))
        Take.objects.update(home_trim_db=24.0)
        answer, job = self.bounce()
        made = bouncing.came_of(job)
        self.assertContains(answer, f"turned down by {made.lowered_db:.1f} dB so that nothing clips")
        sound, _ = soundfile.read(bouncing.path_of(made))
        self.assertAlmostEqual(20 * np.log10(np.abs(sound).max()), -0.1, delta=0.06)

    def test_live_returns_are_recorded_for_it_first(self):
        page = self.page("session:mix")
        self.assertIn("With live returns: Alder kit", page)
        self.assertIn("in real time, up to 0:40.0", page)
        answer, _ = self.bounce(live="on", fast="on")
        self.assertIn("both come home on line in 1–2", self.told(answer))
        self.session.tracks.exclude(name__in=("Bittern", "Alder kit")).update(notes=b"")
        _, job = self.bounce(live="on", fast="on", last_bar=4)
        self.assertEqual((job.state, job.message), (Job.DONE, ""))
        self.assertEqual(bouncing.came_of(job).tracks, 2)

    def test_what_cannot_be_is_said_and_nothing_is_made(self):
        answer, job = self.bounce(last_bar=99)
        self.assertIn("Bars 1 to 99 are none of this session: it has 16.", self.told(answer))
        Track.objects.update(mix=to_json(Fader(muted=True)))
        answer, job = self.bounce()
        self.assertIn("No track is heard", self.told(answer))
        self.assertIsNone(job)
        self.assertEqual(self.client.get("/session/mix/mix.wav").status_code, 404)

    def test_settings_are_steps_and_a_bad_one_is_refused(self):
        bittern = self.track("Bittern")
        self.client.post("/session/mix/", {"to": "level", "track": bittern.uid, "level": "-6.5", "pan": "-20"})
        self.assertEqual(self.track("Bittern").fader, Fader(-6.5, -20))
        answer = self.client.post("/session/mix/", {"to": "level", "track": bittern.uid, "level": "40"}, follow=True)
        self.assertIn("A level of 40 dB is out of reach", self.told(answer))
        self.client.post("/session/mix/", {"to": "group", "track": bittern.uid, "group": "low end"})
        self.client.post("/session/mix/", {"to": "mute", "of_group": "low end"})
        self.assertTrue(self.session.mixing.of_group("low end").muted)
        for _ in range(3):
            undo(self.rig, self.session)
        self.assertEqual((self.track("Bittern").fader, self.track("Bittern").group), (Fader(), ""))
        answer = self.client.post(
            "/session/mix/", {"to": "beside", "in_passes": "on", "click": "off", "click_db": "-12"}
        )
        self.assertContains(answer, "Choose the pair of outputs that you hear.")
