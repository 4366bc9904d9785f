"""Files that are not what they should be: each costs itself and nothing else."""

import re
import stat
from unittest import mock

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client, SimpleTestCase, override_settings
from django.urls import URLResolver, get_resolver, reverse

from hypotaxis.core.formats.pasted import lines, read_pasted
from hypotaxis.core.timing.grid import MOST_STEPS, grid_score
from hypotaxis.records import audio
from hypotaxis.records.models import Box, Instrument, PatchList, Session, Sounding, Track
from tests.core.formats.test_smf import smf
from tests.web.base import DemoTest

LIST = "\n".join(f"{number} Name number {number}" for number in range(1, 9))


def flac_that_claims(samples: int, rate: int = 8000) -> bytes:
    """A FLAC file that is only its head (RFC 9639: STREAMINFO of 34 bytes)."""
    facts = (rate << 44) | (15 << 36) | samples
    info = b"\x10\x00\x10\x00" + bytes(6) + facts.to_bytes(8, "big") + bytes(16)
    return b"fLaC\x80" + len(info).to_bytes(3, "big") + info


class LostTakeTest(DemoTest):
    def test_a_take_whose_file_is_missing_empty_cut_or_damaged_costs_only_itself(self):
        run = self.record("Alder kit", "Bittern")
        kit, bass = (run.takes.get(track__name=name) for name in ("Alder kit", "Bittern"))
        path = audio.take_path(kit.file)
        whole = path.read_bytes()
        spoilt = {
            "its file is missing": None,
            "its file is empty": b"",
            "its file breaks off": whole[:40_000],
            "its file is damaged": bytes(len(whole)),
        }
        for told, data in spoilt.items():
            with self.subTest(told):
                path.unlink(missing_ok=True)
                (audio.folder("peaks") / f"{kit.file}.npy").unlink(missing_ok=True)
                if data is not None:
                    path.write_bytes(data)
                page = self.page("session:home")
                self.assertIn(f"The sound of this take is lost: {told}", page)
                self.assertIn(reverse("session:listen", args=[bass.uid, "placed"]), page)
                self.page("handover:home")
                self.client.get(reverse("session:glass"))
                for lost in (reverse("session:listen", args=[kit.uid, "placed"]), self.wave(kit)):
                    self.assertContains(self.client.get(lost), "The sound of this take is lost", status_code=409)
                self.assertEqual(self.client.get(self.wave(bass)).status_code, 200)
                answer = self.client.post(reverse("session:place", args=[kit.uid]), {"to": "fitted"}, follow=True)
                self.assertIn(answer.status_code, (200, 409))
                if data is None or len(data) < len(whole):
                    bundle = self.handed_over()
                    self.assertEqual(sum(name.endswith(".wav") for name in bundle.namelist()), 1)
                    self.assertIn(f"take {kit.number}: left out, {told}", bundle.read("read-me.txt").decode())
        path.write_bytes(whole)
        self.assertNotIn("is lost", self.page("session:home"))

    def wave(self, take) -> str:
        return reverse("handover:wave", args=[take.uid])


class ReadersTest(DemoTest):
    def test_a_head_that_claims_hours_makes_no_clicks(self):
        for samples in (2**36 - 1, 4 * 3600 * 8000):
            recording = SimpleUploadedFile("claims.flac", flac_that_claims(samples))
            form = {"step": "sixteenths", "bpm": "400", "recording": recording}
            answer = self.client.post(reverse("timing:new"), form, follow=True)
            if samples > 4 * 3600 * 8000:
                self.assertContains(answer, "up to 4 can be used")
                self.assertFalse(Sounding.objects.exists())
        self.assertEqual((Sounding.objects.get().job.state, Sounding.objects.get().measured), ("failed", None))

    def test_what_takes_too_long_to_read_ends_and_is_said(self):
        # Long runs of any blank or sign, which once cost the cube of their length.
        for blank in ("\u2003", "\x0b", " .", ":", "| ", "\u3000"):
            with self.subTest(blank):
                text = f"{LIST}\nName{blank * 900}12\n9 a{blank * 900}1\n"
                answer = self.client.post(reverse("instruments:lists"), {"text": text, "title": "x"})
                self.assertNotContains(answer, "it takes too long", status_code=answer.status_code)

    def test_a_deep_rig_file_is_refused_by_its_reader_not_by_the_server(self):
        deep = b"[" * 200_000 + b"]" * 200_000
        answer = self.client.post(reverse("rig:read-rig"), {"file": SimpleUploadedFile("deep.json", deep)})
        self.assertContains(answer, "deep.json" if b"deep.json" in answer.content else "rig")

    def test_a_score_is_read_apart_and_its_reason_told(self):
        form = {"score": SimpleUploadedFile("s.mid", smf(b"", kind=2)), "recording": SimpleUploadedFile("r.wav", b"x")}
        self.assertContains(self.client.post(reverse("timing:new"), form), "type 2 file")


class BoundsTest(SimpleTestCase):
    def test_a_grid_has_its_most_steps_before_they_are_made(self):
        score = grid_score(bpm=400, step="sixteenths", seconds=1e9)
        self.assertEqual(len(score.parts[0].notes), MOST_STEPS)

    def test_a_gap_of_any_blanks_is_read_as_a_gap(self):
        plain = read_pasted(LIST.replace(" Name", "   Name")).patches
        for gap in ("\u2003" * 50, "\x0b" * 9, "\u00a0\u2009" * 30):
            self.assertEqual(read_pasted(LIST.replace(" Name", f"{gap}Name")).patches, plain)
        self.assertLessEqual(len(lines.lines_of("a" + " | " * 900 + "b")[0].text), lines.LONGEST_LINE * 2)


class HandMadeTest(DemoTest):
    """Addresses and forms with values that no page of ours sends: answered, never broken."""

    NAMES = (
        *("list", "next", "as", "find", "part", "scale", "root", "first", "try", "tick", "bar", "note", "step", "show"),
        *("cause", "box", "like", "template", "takes", "only", "page", "sort", "from", "to", "span", "zoom", "take"),
        *("waits", "first_bar", "last_bar", "kind", "module", "socket", "cable", "at", "asked", "line", "question"),
        *("track", "patch", "channel", "pass", "act", "sound", "session", "about", "device", "address", "name", "what"),
    )
    JUNK = ("nope", "9" * 5000, "-1", "\u0000", "../../etc", "1e999", "\U0001f30a")

    def addresses(self) -> set[str]:
        """Every address, with uids of what there is in it, and of what there is not."""
        kept = {"patches": PatchList, "instruments": Instrument, "rig": Box, "session": Track, "stand-in": Box}
        found = set()
        for pattern in _patterns(get_resolver().url_patterns):
            model = next((model for word, model in kept.items() if word in pattern), Instrument)
            for uid in (model.objects.first().uid, "00000000-0000-4000-8000-000000000000"):
                address = re.sub(r"<uuid:[^>]+>", str(uid), f"/{pattern}")
                found.add(re.sub(r"<[^>]+>", "nope", address))
        return found

    def test_no_address_and_no_form_breaks(self):
        client = Client(raise_request_exception=False)
        broken = []
        for place, address in enumerate(sorted(self.addresses())):
            junk = self.JUNK[place % len(self.JUNK)]
            for ask in (client.get, client.post):
                answer = ask(address, dict.fromkeys(self.NAMES, junk))
                if answer.status_code >= 500:
                    broken.append((ask.__name__, address, junk[:10]))
                if answer.status_code == 302 and not answer.url.startswith(("/", "?")):
                    broken.append(("led away to", address, answer.url))
        self.assertEqual(broken, [])


class AnswersTest(DemoTest):
    """What every answer has, and what is kept from others."""

    SAFE = ("Content-Security-Policy", "X-Frame-Options", "X-Content-Type-Options", "Referrer-Policy")

    @override_settings(WHITENOISE_USE_FINDERS=True)
    def test_refused_hosts_static_files_and_errors_are_answered_as_safely_as_pages(self):
        client = Client(raise_request_exception=False)
        answers = {
            "a page": client.get("/session/"),
            "a refused host": client.get("/session/", HTTP_HOST="evil.example"),
            "a static file": client.get("/static/web/styles/stand.css"),
            "nothing there": client.get("/nowhere/"),
        }
        with mock.patch("hypotaxis.steps.sync.views.in_use", side_effect=ZeroDivisionError):
            answers["an error of ours"] = client.get("/sync/")
        codes = {name: answer.status_code for name, answer in answers.items()}
        self.assertEqual(list(codes.values()), [200, 400, 200, 404, 500], codes)
        for name, answer in answers.items():
            with self.subTest(name):
                self.assertEqual([one for one in self.SAFE if one not in answer], [])

    def test_long_pages_are_compressed_and_sound_is_not(self):
        packed = {"HTTP_ACCEPT_ENCODING": "gzip"}
        self.assertEqual(Client().get("/session/", **packed)["Content-Encoding"], "gzip")
        self.assertNotIn("Content-Encoding", Client().get("/stand/state/", **packed))
        run = self.record("Bittern")
        sound = Client().get(reverse("session:listen", args=[run.takes.get().uid, "raw"]), **packed)
        self.assertNotIn("Content-Encoding", sound)

    def test_a_session_s_name_is_one_line(self):
        old = reverse("session:tidy", args=["session", self.session.uid])
        form = {"name": "Ebb\r\nSet-Cookie: x", "bpm": "120", "beats": "4", "unit": "4", "bars": "4"}
        self.client.post(reverse("session:new"), form)
        self.client.post(old, {"to": "rename", "name": "a\nb"})
        self.assertEqual(set(Session.objects.values_list("name", flat=True)), {"Ebb Set-Cookie: x", "a b"})

    def test_the_data_are_their_owners_alone(self):
        run = self.record("Bittern")
        for path, mode in ((settings.DATA, 0o700), (audio.take_path(run.takes.get().file), 0o600)):
            self.assertEqual(stat.S_IMODE(path.stat().st_mode), mode, path)


def _patterns(entries, before: str = ""):
    for entry in entries:
        here = before + str(entry.pattern)
        if isinstance(entry, URLResolver):
            yield from _patterns(entry.url_patterns, here)
        else:
            yield here
