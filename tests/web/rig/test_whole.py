"""Boxes, sockets, ports, routes, remedies, templates, pictures and lists, as the pages store and refuse them."""

import io
import json

from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse
from PIL import Image

from hypotaxis.core.findings.rules import check
from hypotaxis.core.formats.rigfile import read_rig_file
from hypotaxis.core.rig import change
from hypotaxis.records import journal
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.models import Change, FrontPanel, Rig
from hypotaxis.records.pictures import picture_path
from hypotaxis.records.plan import load_plan
from hypotaxis.steps.rig import services
from tests.many import all_reported
from tests.rooms import box_named, large_room, small_room
from tests.web.base import DemoTest


def photo(format_="JPEG", size=(900, 600), **options) -> bytes:
    stream = io.BytesIO()
    Image.new("RGB", size, (120, 60, 30)).save(stream, format_, **options)
    return stream.getvalue()


class AnyChangeTest(DemoTest):
    def test_every_kind_of_change_is_one_step_that_is_taken_back_exactly(self):
        plan, rig = self.plan, self.rig
        alder, junction = box_named(plan, "Alder"), box_named(plan, "Junction 6")
        one, other = junction.socket("in 1").uid, junction.socket("out 2").uid
        steps = [
            lambda: services.set_up(rig, self.plan, alder, omni=True, uses=("kick",), receives=(10, 11)),
            lambda: services.edit_socket(rig, self.plan, alder.socket("kick").uid, {"label": "BD", "max_dbu": 12.0}),
            lambda: services.add_socket(rig, self.plan, alder, {"label": "clap", "direction": "out", "kind": "audio"}),
            lambda: services.move_socket(rig, self.plan, alder.socket("snare").uid, up=True),
            lambda: services.add_route(rig, self.plan, one, other),
            lambda: services.set_route(
                rig,
                self.plan,
                box_named(self.plan, "Junction 6").routes[0],
                channels=(1,),
                remap=((1, 2),),
                clock=False,
            ),
            lambda: services.name_ports(rig, self.plan, {other: {"port_name": "West", "duty": "spare"}}),
            lambda: services.replug(
                rig,
                self.plan,
                self.plan.rig.cable_at(alder.socket("kick").uid),
                alder.socket("kick").uid,
                alder.socket("snare").uid,
            ),
            lambda: services.place_box(rig, self.plan, box_named(self.plan, "Eelgrass"), 0),
            lambda: services.tidy(rig, self.plan),
            lambda: services.remove_socket(rig, self.plan, box_named(self.plan, "Sedge").socket("MIDI in").uid),
            lambda: services.remove_route(rig, self.plan, box_named(self.plan, "Junction 6").routes[0]),
            lambda: services.change_settings(rig, self.plan, name="Marsh", echo=False, leader=alder.uid),
            lambda: services.remove_box(rig, self.plan, box_named(self.plan, "Junction 6")),
        ]
        states = [plan]
        for number, step in enumerate(steps, start=1):
            step()
            states.append(self.plan)
            self.assertNotEqual(states[-1], states[-2], number)
            self.assertEqual(Change.objects.count(), number)
        for state in reversed(states[:-1]):
            journal.undo(self.rig)
            self.assertEqual(self.plan, state)
        for state in states[1:]:
            journal.redo(self.rig)
            self.assertEqual(self.plan, state)

    def test_a_rig_of_two_hundred_boxes_is_stored_and_read_back_as_it_was(self):
        plan = large_room()
        self.assertEqual(load_plan(import_rig(plan)), plan)


class SocketPagesTest(DemoTest):
    def test_what_a_socket_cannot_be_is_said_at_its_field(self):
        alder = box_named(self.plan, "Alder")
        good = {"label": "new", "kind": "midi", "direction": "out"}
        refused = {
            "This box has a socket kick already": {"label": " kick "},
            "Only USB and network go both ways": {"direction": "both"},
            "A USB socket goes both ways": {"kind": "usb"},
            "A thru is a MIDI out": {"kind": "audio", "thru_of": "MIDI in"},
            "Either it has another side, or it carries both itself": {
                "kind": "audio",
                "stereo": "L",
                "both_sides": "on",
            },
            "less than or equal to 60": {"max_dbu": 99},
        }
        for reason, fields in refused.items():
            with self.subTest(reason):
                answer = self.client.post(reverse("rig:new-socket", args=[alder.uid]), good | fields)
                self.assertContains(answer, reason)
        self.assertEqual(box_named(self.plan, "Alder"), alder)
        self.client.post(reverse("rig:new-socket", args=[alder.uid]), good | {"thru_of": "MIDI in"})
        self.assertEqual(box_named(self.plan, "Alder").socket("new").thru_of, "MIDI in")

    def test_channels_are_read_as_people_write_them(self):
        reedbed = box_named(self.plan, "Reedbed")
        address = reverse("rig:setup", args=[reedbed.uid])
        form = {"set_by": "switches", "transmits": "", "local": "", "clock": ""}
        self.client.post(address, form | {"receives": "1–3, 10"})
        self.assertEqual(box_named(self.plan, "Reedbed").setup.receives, (1, 2, 3, 10))
        self.assertContains(self.client.get(address), 'value="1, 2, 3, 10"')
        for text, reason in (("1, x", "“x” is not a channel"), ("9-17", "“9-17” is not within the channels 1 to 16")):
            self.assertContains(self.client.post(address, form | {"receives": text}), reason)
        page = self.page("rig:panels")
        self.assertIn("switches for channel 1", page)
        self.assertIn("With the switches on its back", page)

    def test_a_new_input_of_an_interface_can_be_recorded_from(self):
        quayside = box_named(self.plan, "Quayside 18")
        fields = {"label": "line in 9", "direction": "in", "kind": "audio", "level": "line +4"}
        services.add_socket(self.rig, self.plan, quayside, fields)
        socket = box_named(self.plan, "Quayside 18").socket("line in 9")
        services.connect(self.rig, self.plan, self.socket("Alder", "snare"), socket.uid)
        self.rig.instruments.filter(name="Alder kick").update(returns=[socket.uid])
        self.assertEqual(self.record("Alder kick").setup["inputs"], [socket.system_name])


class PortPagesTest(DemoTest):
    def form(self, **changes) -> dict:
        page = self.client.get(reverse("rig:ports")).context["form"]
        return {name: field.initial for name, field in page.fields.items()} | changes

    def test_one_reported_port_belongs_to_one_socket(self):
        one, other = self.socket("Junction 6", "out 1"), self.socket("Junction 6", "out 2")
        taken = self.plan.rig.find(other)[1].system_name
        answer = self.client.post(reverse("rig:ports"), self.form(**{f"match_{one}": taken}))
        self.assertContains(answer, "is matched to out")
        self.assertFalse(Change.objects.exists())

    def test_each_port_is_offered_what_goes_its_way_and_what_it_was_matched_to(self):
        uid, keys = self.socket("Junction 6", "out 1"), self.socket("Heron 61", "keys")
        held = [self.plan.rig.find(one)[1].system_name for one in (uid, keys)]
        services.name_ports(self.rig, self.plan, {uid: {"system_name": "An older name"}})
        fields = self.client.get(reverse("rig:ports")).context["form"].fields
        goes_out, comes_in = ([name for name, _ in fields[f"match_{one}"].choices] for one in (uid, keys))
        self.assertEqual((goes_out[0], goes_out[-1]), ("", "An older name"))
        self.assertEqual(
            [[name in one for one in (goes_out, comes_in)] for name in held], [[True, False], [False, True]]
        )

    def test_the_sheet_of_many_reported_ports_grows_with_them_and_not_with_their_square(self):
        sizes = []
        for rig in (import_rig(large_room(share)) for share in (0.15, 1.0)):
            ports = all_reported(rig)
            self.client.cookies["hypotaxis-rig"] = str(rig.uid)
            self.client.post(reverse("rig:propose"))
            page = self.page("rig:ports")
            self.assertGreaterEqual(page.count('" selected>'), ports)
            sizes.append(len(page) / ports)
        self.assertLess(sizes[1], 1.2 * sizes[0])

    def test_a_port_that_goes_is_missing_and_is_known_again_when_it_returns(self):
        uid = box_named(self.plan, "Junction 6").uid
        off = FrontPanel.objects.create(box_uid=uid, settings={"off": True})
        self.assertIn("6 ports", self.page("rig:home").replace("12 ports", "6 ports"))
        self.assertIn("missing", self.page("rig:ports"))
        off.delete()
        self.assertNotIn("> missing<", self.page("rig:ports"))

    def test_what_is_reported_under_another_name_is_matched_in_one_move(self):
        uid = self.socket("Heron 61", "keys")
        services.name_ports(self.rig, self.plan, {uid: {"system_name": "An older name"}})
        self.assertIn("Heron 61 keys is missing", self.page("rig:home"))
        answer = self.client.post(reverse("rig:propose"), follow=True)
        self.assertIn("1 port is matched", self.told(answer))
        self.assertNotIn("is missing", self.page("rig:home"))


class RemediesTest(DemoTest):
    def test_a_finding_that_has_gone_says_so(self):
        answer = self.client.get(reverse("rig:finding", args=["0123456789abcdef"]), follow=True)
        self.assertIn("its cause has changed", self.told(answer))

    def test_a_remedy_is_done_and_a_mark_is_a_step_of_the_journal(self):
        finding = next(f for f in check(self.plan) if f.rule == "return-not-cabled")
        self.client.post(reverse("rig:mean", args=[finding.key]), {"reason": "for now"})
        self.assertEqual([one.reason for one in self.plan.meant][-1], "for now")
        journal.undo(self.rig)
        self.assertEqual(len(self.plan.meant), 1)
        self.client.post(reverse("rig:finding", args=[finding.key]))
        self.assertIsNotNone(self.plan.rig.cable_at(self.socket("Sluice", "out")))
        kick = next(iter(self.client.get(reverse("rig:home")).context["meant"]))[0]
        self.client.post(reverse("rig:stand-again", args=[kick.key]))
        self.assertIn("Channel 10 of Junction out 5 is used twice", self.page("rig:home"))


class PicturesTest(DemoTest):
    def send(self, data: bytes, name="box.jpg", **fields):
        form = {"name": "Alder", "note": "", "colour": "", "icon": ""} | fields
        address = reverse("rig:box", args=[box_named(self.plan, "Alder").uid])
        return self.client.post(address, form | {"picture": SimpleUploadedFile(name, data)}, follow=True)

    def test_a_picture_is_made_anew_small_and_travels_with_the_file(self):
        self.send(photo(exif=b"Exif\x00\x00secret place"))
        name = box_named(self.plan, "Alder").picture
        kept = picture_path(name).read_bytes()
        self.assertEqual(Image.open(io.BytesIO(kept)).size, (128, 85))
        self.assertNotIn(b"secret", kept)
        self.assertEqual(self.client.get(reverse("rig:picture", args=[name]))["Content-Type"], "image/png")
        self.assertIn(reverse("rig:picture", args=[name]), self.page("rig:home"))
        saved = self.client.get(reverse("rig:rig-file")).content
        self.assertEqual(len(read_rig_file(saved.decode()).pictures), 1)
        picture_path(name).unlink()
        self.client.post(reverse("rig:read-rig"), {"file": SimpleUploadedFile("r.json", saved)})
        self.assertEqual(picture_path(name).read_bytes(), kept)

    def test_what_is_no_picture_is_refused_and_nothing_is_kept(self):
        refused = {
            "drawings (SVG) are not accepted": b"<svg xmlns='http://www.w3.org/2000/svg'><script>1</script></svg>",
            "The picture is damaged": photo()[:400],
            "million pixels": photo("PNG", (9000, 9000)),
        }
        for reason, data in refused.items():
            with self.subTest(reason):
                self.assertContains(self.send(data, name="x.svg"), reason)
        self.assertEqual(box_named(self.plan, "Alder").picture, "")
        self.assertEqual(self.client.get("/rig/picture/abc.png").status_code, 404)


class ListsTest(DemoTest):
    def test_the_cable_list_names_every_cable_with_its_colour_in_words(self):
        page = self.page("rig:printed-cables")
        self.assertIn(f"{len(self.plan.rig.cables)} cables", page)
        for words in ("Junction 6 out 2", "Sedge MIDI in", "MIDI DIN", "black", "3 m"):
            self.assertIn(words, page)
        labels = self.page("rig:printed-labels")
        self.assertIn("Quayside 18 line in 7 (white)", labels.replace("&nbsp;", " "))
        self.assertEqual(labels.count('class="flag"'), 2 * len(self.plan.rig.cables))

    def test_a_template_stays_as_it_is_and_is_begun_with(self):
        self.client.post(reverse("rig:keep-template"))
        template = Rig.objects.get(template=True)
        services.remove_box(
            Rig.objects.get(template=False),
            self.plan_of("Saltmarsh Room"),
            box_named(self.plan_of("Saltmarsh Room"), "Alder"),
        )
        self.client.post(reverse("rig:from-template", args=[template.uid]))
        begun = load_plan(Rig.objects.get(name="Saltmarsh Room 2"))
        self.assertIn("Alder", [box.name for box in begun.rig.boxes])
        self.client.post(reverse("rig:from-template", args=[template.uid]), {"away": "1"})
        self.assertFalse(Rig.objects.filter(template=True).exists())

    def plan_of(self, name: str):
        return load_plan(Rig.objects.get(name=name, template=False))

    def test_a_file_with_things_that_do_not_belong_is_refused_whole(self):
        document = json.loads(self.client.get(reverse("rig:rig-file")).content)
        document["boxes"][3]["routes"] = [{"uid": "x"}]
        file = SimpleUploadedFile("r.json", json.dumps(document).encode())
        answer = self.client.post(reverse("rig:read-rig"), {"file": file})
        self.assertContains(answer, "boxes[3].routes[0].uid should be a UUID")
        self.assertEqual(Rig.objects.count(), 1)


class CopiedRigTest(DemoTest):
    def test_what_was_meant_stays_meant_in_a_copy(self):
        copy = load_plan(services.duplicate(self.plan))
        self.assertEqual(len(copy.meant), 1)
        answer = self.client.get(reverse("rig:home"), headers={"cookie": f"hypotaxis-rig={copy.rig.uid}"})
        self.assertEqual(len(answer.context["meant"]), 1)

    def test_the_layout_of_a_small_room_is_kept_by_hand(self):
        rig = import_rig(small_room())
        plan = load_plan(rig)
        services.move_box(rig, plan, box_named(plan, "Alder"), up=True)
        self.assertTrue(box_named(load_plan(rig), "Alder").by_hand)
        self.assertFalse(services.move_box(rig, plan, box_named(plan, "Sedge"), up=True))
        self.assertEqual(change.set_rig(plan, name="x").rig.name, "x")
