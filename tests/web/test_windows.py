"""Two windows at once: nobody's change is lost, and none writes into another rig than it shows."""

import html
import json
import re
import threading
from unittest import mock

from django.core.management import call_command
from django.db import connections
from django.test import Client, TransactionTestCase
from django.urls import reverse

from hypotaxis.records import journal
from hypotaxis.records.current import make_empty_rig
from hypotaxis.records.models import Box, Cable, Instrument, Rig, Session, Track
from hypotaxis.records.plan import load_plan
from tests.rooms import uid_of
from tests.web.base import DemoTest


def fields_of(page: str) -> dict[str, str]:
    """What a browser would send, as it stands, of the form that knows its state."""
    form = next(part for part in re.findall(r"<form[^>]*>.*?</form>", page, re.S) if 'was" value' in part)
    found = {}
    for tag in re.findall(r"<input[^>]*>", form):
        parts = dict(re.findall(r'([\w-]+)="([^"]*)"', tag))
        if parts.get("type") == "checkbox" and "checked" not in tag:
            continue
        if "name" in parts:
            found[parts["name"]] = html.unescape(parts.get("value", "on" if parts.get("type") == "checkbox" else ""))
    for name, options in re.findall(r'<select[^>]*name="([^"]+)"[^>]*>(.*?)</select>', form, re.S):
        chosen = re.search(r'<option value="([^"]*)" selected', options) or re.search(r'value="([^"]*)"', options)
        found[name] = html.unescape(chosen.group(1))
    for name, text in re.findall(r'<textarea[^>]*name="([^"]+)"[^>]*>(.*?)</textarea>', form, re.S):
        found[name] = html.unescape(text.strip())
    return found


class StaleFormTest(DemoTest):
    def shown(self, name: str, *args) -> dict[str, str]:
        return fields_of(self.client.get(reverse(name, args=args)).content.decode())

    def test_what_only_one_window_changed_is_kept_of_both(self):
        box = Box.objects.get(name="Bittern")
        first, second = self.shown("rig:box", box.uid), self.shown("rig:box", box.uid)
        self.client.post(reverse("rig:box", args=[box.uid]), first | {"name": "Bittern II"})
        self.client.post(reverse("rig:box", args=[box.uid]), second | {"note": "on the left"})
        box.refresh_from_db()
        self.assertEqual((box.name, box.note), ("Bittern II", "on the left"))

    def test_what_both_changed_is_told_field_by_field_and_what_was_typed_is_kept(self):
        one = Instrument.objects.get(name="Bittern")
        address = reverse("instruments:edit", args=[one.uid])
        first, second = self.shown("instruments:edit", one.uid), self.shown("instruments:edit", one.uid)
        self.client.post(address, first | {"channel": "9", "home_trim_db": "-3"})
        answer = self.client.post(address, second | {"channel": "11"})
        page = html.unescape(answer.content.decode())
        self.assertIn("Changed meanwhile, in another window, to “9”", page)
        again = fields_of(page)
        self.assertEqual(again["channel"], "11")
        one.refresh_from_db()
        self.assertEqual((one.channel, one.home_trim_db), (9, -3.0))
        self.client.post(address, again)
        one.refresh_from_db()
        self.assertEqual((one.channel, one.home_trim_db), (11, -3.0))

    def test_a_choice_and_a_mark_are_told_in_words(self):
        box = Box.objects.get(name="Sedge")
        address = reverse("rig:setup", args=[box.uid])
        first, second = self.shown("rig:setup", box.uid), self.shown("rig:setup", box.uid)
        self.client.post(address, first | {"local": "off", "omni": "on"})
        answer = self.client.post(address, second | {"local": "always on"})
        self.assertContains(answer, "to “off”")
        self.assertTrue(Box.objects.get(uid=box.uid).setup["omni"])

    def test_a_table_that_was_changed_meanwhile_is_told_as_one(self):
        one = Instrument.objects.get(name="Alder kit")
        address = reverse("instruments:voices", args=[one.uid])
        first, second = self.shown("instruments:voices", one.uid), self.shown("instruments:voices", one.uid)
        self.client.post(address, first | {"note_0": "35", "name_0": "low kick"})
        answer = self.client.post(address, second | {"name_1": "rim"})
        self.assertContains(answer, "This was changed meanwhile")
        self.client.post(address, fields_of(answer.content.decode()))
        self.assertIn("rim", [voice["name"] for voice in Instrument.objects.get(uid=one.uid).voices])

    def test_tracks_of_a_stale_page_leave_alone_what_another_armed(self):
        page = self.client.get(reverse("session:home")).content.decode()
        shown = fields_of(page)
        kit, bass = self.track("Alder kit"), self.track("Bittern")
        self.client.post(reverse("session:tracks"), shown | {f"{kit.uid}-armed": "on"})
        self.client.post(reverse("session:tracks"), shown | {f"{bass.uid}-program": "7"})
        kit.refresh_from_db()
        bass.refresh_from_db()
        self.assertEqual((kit.armed, bass.armed, bass.program), (True, False, 7))
        answer = self.client.post(reverse("session:tracks"), shown | {f"{bass.uid}-program": "9"})
        self.assertContains(answer, "to “7”")
        self.assertContains(answer, 'value="9"')

    def test_a_state_of_another_make_is_not_believed(self):
        box = Box.objects.get(name="Bittern")
        shown = self.shown("rig:box", box.uid)
        for was in ("no json", json.dumps([1]), json.dumps({"name": {"a": 1}, "note": None}), "x" * 300_000):
            with self.subTest(was[:20]):
                answer = self.client.post(reverse("rig:box", args=[box.uid]), shown | {"was": was, "name": "Bittern"})
                self.assertIn(answer.status_code, (200, 302))

    def test_a_box_removed_in_another_window_stays_removed(self):
        box = Box.objects.get(name="Bittern")
        shown = self.shown("rig:box", box.uid)
        self.client.post(reverse("rig:remove", args=[box.uid]))
        answer = self.client.post(reverse("rig:box", args=[box.uid]), shown | {"note": "x"})
        self.assertEqual(answer.status_code, 404)
        self.assertFalse(Box.objects.filter(uid=box.uid).exists())

    def test_the_journal_keeps_what_changed_only_so_that_undo_leaves_the_rest_alone(self):
        box = Box.objects.get(name="Bittern")
        shown = self.shown("rig:box", box.uid)
        self.client.post(reverse("rig:box", args=[box.uid]), shown | {"note": "on the left"})
        (edit,) = journal.last_done(self.rig).edits
        self.assertEqual((edit["before"], edit["after"]), ({"note": box.note}, {"note": "on the left"}))
        Box.objects.filter(uid=box.uid).update(colour="#1F7F78")
        journal.undo(self.rig)
        box.refresh_from_db()
        self.assertEqual(box.colour, "#1F7F78")


class OtherRigTest(DemoTest):
    def test_a_form_changes_the_rig_it_was_shown_for_and_the_window_goes_on_with_it(self):
        shown = {"of_rig": str(self.rig.uid), "shape": "poly-synth"}
        other = make_empty_rig("Loft")
        self.client.cookies["hypotaxis-rig"] = str(other.uid)
        answer = self.client.post(reverse("rig:add"), shown | {"name": "Teasel"}, follow=True)
        self.assertEqual(Box.objects.get(name="Teasel").rig.name, "Saltmarsh Room")
        self.assertContains(answer, "<b>Saltmarsh Room</b>")
        self.client.cookies["hypotaxis-rig"] = str(other.uid)
        self.client.post(reverse("rig:undo"), {"of_rig": shown["of_rig"]})
        self.assertFalse(Box.objects.filter(name="Teasel").exists())

    def test_a_session_is_named_by_the_form_and_by_the_fragment(self):
        mine = self.session
        self.arm("Alder kit")
        other = Session.objects.create(rig=self.rig, name="Low water", tempos=mine.tempos, meters=mine.meters)
        Track.objects.create(session=other, name="Reed")
        self.client.cookies["hypotaxis-session"] = str(other.uid)
        asked = {"first_bar": 1, "last_bar": 1, "fast": "on", "of_session": str(mine.uid)}
        self.client.post(reverse("session:start"), asked)
        self.assertEqual((mine.passes.count(), other.passes.count()), (1, 0))
        fragment = self.client.get(reverse("session:glass"), headers={"X-Of-Session": str(mine.uid)})
        self.assertContains(fragment, "Alder kit")

    def test_a_rig_that_is_gone_is_said(self):
        answer = self.client.post(reverse("rig:add"), {"of_rig": "gone", "shape": "hub", "name": "x"})
        self.assertContains(answer, "The rig that this page shows is gone", status_code=409)


class CrossingTest(TransactionTestCase):
    """Threads with connections of their own, as the server's are."""

    def setUp(self):
        call_command("loaddemo", stdout=mock.Mock())
        self.rig = Rig.objects.get()

    def at_once(self, *posts):
        """The answers' states to these posts (address, form), all sent at one moment."""
        gate, states = threading.Barrier(len(posts)), []

        def send(address, form):
            client = Client()
            gate.wait()
            states.append(client.post(address, form).status_code)
            connections.close_all()

        threads = [threading.Thread(target=send, args=post) for post in posts]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        return sorted(states)

    def test_of_crossing_changes_none_is_lost(self):
        names = ("Bittern", "Sedge", "Withy", "Reedbed")
        posts = []
        for name in names:
            box = Box.objects.get(name=name)
            address = reverse("rig:box", args=[box.uid])
            shown = fields_of(Client().get(address).content.decode())
            posts += [(address, shown | {"note": f"note of {name}"}), (address, shown | {"colour": "#1F7F78"})]
        self.assertEqual(self.at_once(*posts), [302] * 8)
        for name in names:
            box = Box.objects.get(name=name)
            self.assertEqual((box.note, box.colour), (f"note of {name}", "#1F7F78"))

    def test_parts_added_at_once_are_all_there(self):
        one = Instrument.objects.get(name="Sedge upper")
        address = reverse("instruments:new-part", args=[one.uid])
        rest = {"low": 0, "high": 127, "transpose": 0, "curve": "as played"}
        posts = [(address, rest | {"name": f"layer {n}", "channel": n}) for n in range(5, 11)]
        self.assertEqual(self.at_once(*posts), [302] * 6)
        one.refresh_from_db()
        self.assertEqual(sorted(part["channel"] for part in one.parts), list(range(5, 11)))

    def test_a_cable_drawn_twice_at_once_is_one_cable_and_a_reason(self):
        plan = load_plan(self.rig)
        ends = {"source": uid_of(plan, "Sluice", "out"), "target": uid_of(plan, "Quayside 18", "line in 4"), "count": 1}
        cables = Cable.objects.count()
        self.assertEqual(self.at_once(*[(reverse("rig:connect"), ends)] * 3), [200, 200, 302])
        self.assertEqual(Cable.objects.count(), cables + 1)

    def test_two_who_ask_for_one_file_get_it_both(self):
        from hypotaxis.records import audio

        made, gate = [], threading.Barrier(4)

        def write(stream):
            stream.write(b"x" * 100_000)

        def ask():
            gate.wait()
            made.append(audio.made_once("glued", "one.wav", write, keep=2).read_bytes())

        threads = [threading.Thread(target=ask) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual([len(data) for data in made], [100_000] * 4)
        audio.folder("glued").joinpath("one.wav").unlink()
