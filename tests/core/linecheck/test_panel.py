"""What was heard of the boxes confirms some settings of their panels, contradicts others, and leaves the rest alone."""

from datetime import date

from django.test import SimpleTestCase

from hypotaxis.core.linecheck.hearing import InputHeard, LineHeard
from hypotaxis.core.linecheck.lines import Line, lines_of
from hypotaxis.core.linecheck.panel import Found, HeardSetting, heard_settings, omni_asked, omni_found
from hypotaxis.core.linecheck.verdicts import AS_PLANNED, LOW, SILENT, Verdict
from tests.core.findings.test_more_rules import box_set, whole_demo
from tests.rooms import box_named

DAY = "2026-11-27T20:15:00"
NOTHING = {"channels": {}, "omni": {}, "local": {}, "clock": {}}


class PanelHeardTest(SimpleTestCase):
    def setUp(self):
        self.plan = whole_demo()

    def line(self, name: str) -> Line:
        return next(line for line in lines_of(self.plan) if line.name == name)

    def verdict(self, name: str, kind: str, *moved: str, peak_db: float = -12.0) -> tuple[Verdict, str]:
        """What a line came to; moved: the lines at whose inputs something came home."""
        uids = [uid for one in moved for uid in self.line(one).inputs]
        heard = LineHeard(tuple(InputHeard(uid, peak_db, -90.0, 9.0) for uid in uids))
        return Verdict(self.line(name), heard, kind, ""), DAY

    def heard(self, *verdicts: tuple[Verdict, str], **more) -> dict[str, HeardSetting]:
        """By box and setting, as "Sedge channel-1-1"."""
        found = heard_settings(self.plan, verdicts, **NOTHING | more)
        names = {f"panel-{box.uid}-": f"{box.name} " for box in self.plan.rig.boxes}
        return {
            next(key.replace(begins, name) for begins, name in names.items() if key.startswith(begins)): one
            for key, one in found.items()
        }

    def test_a_line_that_came_home_confirms_its_channel_and_where_its_notes_come_from(self):
        found = self.heard(self.verdict("Bittern", AS_PLANNED, "Bittern"))
        self.assertEqual({*found}, {"Bittern channel-1-3", "Bittern notes-from-its MIDI socket"})
        self.assertTrue(all(one.holds for one in found.values()))
        self.assertEqual(found["Bittern channel-1-3"].told, "It answered on channel 3.")
        self.assertEqual(found["Bittern channel-1-3"].on, date(2026, 11, 27))

    def test_each_part_confirms_its_own_channel(self):
        found = self.heard(*(self.verdict(name, AS_PLANNED, name) for name in ("Sedge upper", "Sedge lower")))
        self.assertLessEqual({"Sedge channel-1-1", "Sedge channel-2-2"}, {*found})

    def test_silence_contradicts_nothing_by_itself(self):
        self.assertEqual(self.heard(self.verdict("Bittern", SILENT)), {})
        self.assertEqual(self.heard(self.verdict("Bittern", SILENT, "Withy")), {}, "another box moved its own input")

    def test_silent_on_its_own_channel_and_heard_on_another_contradicts_it(self):
        found = self.heard(self.verdict("Bittern", SILENT), channels={self.line("Bittern").key: 9})
        self.assertEqual({*found}, {"Bittern channel-1-3"})
        self.assertFalse(found["Bittern channel-1-3"].holds)
        self.assertEqual(found["Bittern channel-1-3"].told, "It answers on channel 9.")

    def test_what_came_home_too_low_contradicts_the_level_and_says_how_low(self):
        found = self.heard(self.verdict("Withy", LOW, "Withy", peak_db=-52.0))
        self.assertFalse(found["Withy level-up"].holds)
        self.assertIn("−52.0 dBFS", found["Withy level-up"].told)
        self.assertNotIn("Withy level-up", self.heard(self.verdict("Withy", AS_PLANNED, "Withy")))

    def test_an_effect_loop_says_nothing_of_notes(self):
        self.assertEqual(self.heard(self.verdict("Eelgrass delay", AS_PLANNED, "Eelgrass delay")), {})

    def test_tests_of_their_own_are_held_against_what_the_plan_wants(self):
        self.plan = box_set(self.plan, "Bittern", local="off")
        uid = {name: box_named(self.plan, name).uid for name in ("Bittern", "Alder")}
        answered = Found(True, "It answered on every channel.", DAY)
        found = self.heard(
            omni={uid["Bittern"]: answered},
            local={uid["Bittern"]: Found(False, "Its keys sent and nothing sounded.", DAY)},
            clock={uid["Alder"]: Found(True, "Its steps followed.", DAY)},
        )
        held = {key: one.holds for key, one in found.items()}
        self.assertEqual(held, {"Bittern omni-off": False, "Bittern local-off": True, "Alder clock-internal": False})
        self.assertEqual(found["Bittern omni-off"].told, answered.told)

    def test_a_day_that_is_none_is_told_as_none(self):
        self.assertIsNone(HeardSetting("key", True, "", "some day").on)


class OmniTest(SimpleTestCase):
    def setUp(self):
        self.plan = whole_demo()
        self.lines = lines_of(self.plan)

    def test_each_port_is_asked_once_on_a_channel_where_nobody_should_listen(self):
        asked = omni_asked(self.plan, self.lines)
        ports = {line.port for line in self.lines if line.port}
        self.assertEqual({line.port for line, _ in asked}, ports)
        self.assertEqual(len(asked), len(ports))
        for line, channel in asked:
            self.assertNotIn(channel, {one.channel for one in self.lines if one.port == line.port})

    def test_who_answers_there_listens_to_every_channel_and_boxes_of_several_parts_are_left_out(self):
        asked, channel = next(one for one in omni_asked(self.plan, self.lines) if one[0].name == "Sedge upper")
        bittern = next(line for line in self.lines if line.name == "Bittern")
        uid = box_named(self.plan, "Bittern").uid
        self.assertEqual(omni_found(self.plan, self.lines, asked, channel, bittern.inputs), {uid: True})
        self.assertEqual(omni_found(self.plan, self.lines, asked, channel, ()), {uid: False})
