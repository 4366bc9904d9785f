"""An archive is opened again: exactly, on its rig, on another one, with its own; what is broken is refused whole."""

import hashlib
import io
import json
import zipfile

import jsonschema
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.session.archived import session_schema
from hypotaxis.core.session.handover import SESSION
from hypotaxis.records import audio
from hypotaxis.records.current import make_empty_rig
from hypotaxis.records.models import Job, Pass, Rig, Session, Take, Track
from hypotaxis.records.plan import load_kept, load_plan
from hypotaxis.records.session_rows import archived
from hypotaxis.steps.handover import opening
from hypotaxis.steps.rig.services import duplicate
from hypotaxis.steps.session.services.placing import place_fitted
from tests.web.base import DemoTest


class OpeningTest(DemoTest):
    def before_all(self):
        self.record("Alder kit", "Bittern", bars=(1, 4))
        self.record("Bittern", bars=(2, 3))

    def setUp(self):
        super().setUp()
        self.old = self.session

    @property
    def whole(self) -> zipfile.ZipFile:
        return self.handed_over(items=(SESSION,))

    def data(self, bundle: zipfile.ZipFile, **changed: bytes | None) -> bytes:
        """The archive's bytes, with some files changed or (None) left out; their checksums follow."""
        made, files = io.BytesIO(), {name: bundle.read(name) for name in bundle.namelist()} | changed
        sums = [f"{hashlib.sha256(data).hexdigest()} *{name}" for name, data in files.items() if data is not None]
        with zipfile.ZipFile(made, "w") as copy:
            for name, data in (files | {"checksums.sha256": "\n".join(sums).encode()}).items():
                if data is not None:
                    copy.writestr(name, data)
        return made.getvalue()

    def send(self, data: bytes):
        upload = SimpleUploadedFile("archive.zip", data)
        return self.client.post(reverse("handover:open"), {"archive": upload}, follow=True)

    def opened(self, data: bytes, **asked) -> Session:
        """The session that is there behind it."""
        there = set(Session.objects.values_list("uid", flat=True))
        page = self.send(data)
        self.assertContains(page, "Open it with its own rig")
        answer = self.client.post(page.request["PATH_INFO"], self.proposed(page) | asked, follow=True)
        self.assertContains(answer, "is open:")
        return Session.objects.exclude(uid__in=there).get()

    def proposed(self, page) -> dict:
        found = page.context["found"]
        known = [(one.key, one.proposed) for one in found.places if one.proposed]
        return {f"seat-{key}": f"{to.instrument}/{to.part}" for key, to in known} | {"rig": ""}

    def alike(self, session: Session) -> dict:
        """All of a session but its rig, with a number for each of its uids, which are its own."""
        text = json.dumps(to_json(archived(session)) | {"rig": ""})
        named = (session.tracks.order_by("order"), session.passes.order_by("number"), session.takes.order_by("number"))
        for number, row in enumerate(row for rows in named for row in rows):
            text = text.replace(str(row.uid), f"#{number}")
        return json.loads(text)

    def test_it_comes_back_exactly_on_its_own_rig_twice(self):
        bittern = Track.objects.get(name="Bittern")
        newest = Take.objects.order_by("number").last()
        bittern.chosen = [[str(newest.uid), 2, 2, 0]]
        bittern.group, bittern.grid = "Low", {"rows": []}
        bittern.save()
        Track.objects.filter(name="Alder kick").update(voice_of=Track.objects.get(name="Alder kit"), voice_notes=[36])
        place_fitted(Take.objects.order_by("number").first())
        data = self.data(self.whole)
        before = self.alike(self.old)
        for _ in range(2):
            session = self.opened(data)
            self.assertEqual(self.alike(session), before)
            self.assertEqual((session.rig, session.created), (self.rig, self.old.created))
        for take, old in zip(session.takes.order_by("number"), self.old.takes.order_by("number"), strict=True):
            self.assertEqual(audio.take_path(take.file).read_bytes(), audio.take_path(old.file).read_bytes())
            self.assertEqual((take.bars, take.start, take.sound_file[1]), (old.bars, old.start, old.sound_file[1]))
        self.assertEqual(Take.objects.count(), 9)
        self.page("session:home")
        self.page("session:takes", session.tracks.get(name="Bittern").uid)

    def test_packed_as_flac_its_takes_come_back_to_the_byte(self):
        place_fitted(Take.objects.order_by("number").first())
        bundle = self.handed_over(items=(SESSION,), packed=True)
        sounds = {name for name in bundle.namelist() if name.startswith("session/takes/")}
        self.assertEqual({name.rpartition(".")[2] for name in sounds}, {"flac", "head"})
        data = self.data(bundle)
        session = self.opened(data)
        for take, old in zip(session.takes.order_by("number"), self.old.takes.order_by("number"), strict=True):
            for mine, theirs in ((take.file, old.file), (take.fitted, old.fitted)):
                self.assertEqual(bool(mine), bool(theirs))
                if mine:
                    self.assertEqual(audio.take_path(mine).read_bytes(), audio.take_path(theirs).read_bytes())
        text = json.loads(bundle.read("session/session.json"))
        text["takes"][0]["frames"] *= 2
        longer = json.dumps(text).encode()
        head = next(name for name in sounds if name.endswith(".head"))
        short = self.data(bundle, **{head: b"RIFF"})
        for wrong, told in (
            (self.data(bundle, **{"session/session.json": longer}), "is no FLAC of"),
            (short, "damaged"),
        ):
            page = self.send(wrong)
            page = self.client.post(page.request["PATH_INFO"], self.proposed(page), follow=True)
            self.assertIn(told, Job.objects.order_by("made").last().message)
        self.assertEqual(Session.objects.count(), 2)

    def test_with_its_own_rig_it_opens_on_an_empty_desk(self):
        data = self.data(self.whole)
        Rig.objects.all().delete()
        make_empty_rig("Another desk")
        session = self.opened(data, rig="own")
        self.assertEqual(session.rig.name, "Saltmarsh Room")
        names = {one.uid: one.name for one in load_plan(session.rig).instruments}
        self.assertEqual({names[one.instrument_uid] for one in session.tracks.all()}, {
            "Alder kit", "Alder kick", "Bittern", "Sedge upper", "Sedge lower",
        })  # fmt: skip
        take = session.takes.get(number=2)
        self.assertEqual(names[take.instrument_uid], take.instrument_name)
        self.assertEqual(names[take.part.instrument], take.instrument_name, "what its pass froze names it, too")

    def test_on_another_rig_it_is_mapped_by_name_and_by_hand(self):
        data = self.data(self.whole)
        other = duplicate(load_kept(self.rig), "Other desk")
        other.instruments.filter(name="Bittern").update(name="Wigeon")
        other.instruments.filter(name="Sedge lower").delete()
        self.client.cookies["hypotaxis-rig"] = str(other.uid)
        page = self.send(data)
        places = page.context["found"].places
        proposed = {one.name: one.proposed and self.name_of(other, one.proposed.instrument) for one in places}
        self.assertEqual(proposed["Alder kit"], "Alder kit")
        self.assertEqual(proposed["Bittern"], "Wigeon", "of the same shape, with as many returns")
        withy = other.instruments.get(name="Withy")
        key = next(one.key for one in places if one.name.startswith("Sedge upper"))
        session = self.opened(data, **{f"seat-{key}": f"{withy.uid}/"})
        self.assertEqual(session.rig, other)
        self.assertEqual(session.tracks.get(name="Sedge upper").instrument_uid, str(withy.uid))
        found = session.takes.get(number=2)
        self.assertEqual(self.name_of(other, found.instrument_uid), "Wigeon")

    def name_of(self, rig: Rig, uid: str) -> str:
        return rig.instruments.get(uid=uid).name

    def test_the_text_is_as_its_published_schema_says(self):
        jsonschema.validate(json.loads(self.whole.read("session/session.json")), session_schema())

    def test_what_is_broken_is_refused_and_nothing_of_it_stays(self):
        bundle = self.whole
        take = next(name for name in bundle.namelist() if name.startswith("session/takes/"))
        text = json.loads(bundle.read("session/session.json"))
        newer = json.dumps(text | {"version": 9}).encode()
        bomb = io.BytesIO()
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as packed:
            packed.writestr("session/session.json", b" " * 30_000_000)
        plain = self.data(bundle)
        cases = {
            "This is no archive": b"PK, not really",
            "cannot be unpacked|is not what was written": plain.replace(b'"format"', b'"f0rmat"'),
            "holds no session": self.data(bundle, **{"session/session.json": None}),
            "newer Hypotaxis": self.data(bundle, **{"session/session.json": newer}),
            "no checksums.sha256": self.without_sums(bundle),
            "is not in the archive": self.data(bundle, **{take: None}),
            "would unpack to": bomb.getvalue(),
            "rig in the archive cannot be read": self.data(
                bundle, **{"session/session.json": json.dumps(text | {"rig": {"boxes": 3}}).encode()}
            ),
        }
        before = set(audio.folder("opening").iterdir())
        for told, data in cases.items():
            with self.subTest(told):
                self.assertRegex(self.send(data).content.decode(), told)
        self.assertLessEqual(set(audio.folder("opening").iterdir()), before)

    def without_sums(self, bundle: zipfile.ZipFile) -> bytes:
        made = io.BytesIO()
        with zipfile.ZipFile(made, "w") as copy:
            copy.writestr("session/session.json", bundle.read("session/session.json"))
        return made.getvalue()

    def test_a_take_that_is_not_what_was_written_ends_it_and_leaves_nothing(self):
        bundle = self.whole
        *_, last = (name for name in bundle.namelist() if name.startswith("session/takes/"))
        sound = bundle.read(last)
        before = (Session.objects.count(), Pass.objects.count(), set(audio.folder("takes").iterdir()))
        other_rate = sound.replace((48_000).to_bytes(4, "little"), (44_100).to_bytes(4, "little"), 1)
        for data in (sound[: len(sound) // 2], b"RIFF", other_rate):
            page = self.send(self.data(bundle, **{last: data}))
            answer = self.client.post(page.request["PATH_INFO"], self.proposed(page), follow=True)
            self.assertContains(answer, "is no take of")
            self.assertContains(answer, "Nothing of it was taken in.")
        self.assertEqual(Job.objects.filter(kind=opening.KIND, state=Job.FAILED).count(), 3)
        after = (Session.objects.count(), Pass.objects.count(), set(audio.folder("takes").iterdir()))
        self.assertEqual(after, before)

    def test_one_that_is_gone_meanwhile_says_so(self):
        page = self.send(self.data(self.whole))
        self.client.post(f"{page.request['PATH_INFO']}gone/")
        self.assertContains(self.client.get(page.request["PATH_INFO"], follow=True), "The archive is gone meanwhile")
        for file in ("..", "x" * 300, "0" * 32):
            self.assertIsNone(opening.waiting(file))
        with self.assertRaisesRegex(UnreadableFile, "gone meanwhile"):
            opening.start(opening.Wish("0" * 32, str(self.rig.uid)))
