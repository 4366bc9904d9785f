"""Several parts, several ways home, and the voices of a drum machine."""

import numpy as np
from django.urls import reverse

from hypotaxis.core.drawing.ruler import channel_cells
from hypotaxis.core.findings.rules import check
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from hypotaxis.core.plan import Voice
from hypotaxis.records import journal
from hypotaxis.records.models import Job, Patch
from hypotaxis.records.plan import notes_of
from hypotaxis.steps.handover.sounds import made_file, of_take, time_line
from hypotaxis.steps.instruments.services.defining import another
from tests.web.base import DemoTest

PART = {"name": "strings", "channel": "5", "send": "", "low": "0", "high": "127", "transpose": "0"}


class PartsTest(DemoTest):
    def add_part(self, **fields):
        values = PART | {"curve": "as played"} | fields
        return self.client.post(reverse("instruments:new-part", args=[self.instrument("Reedbed").uid]), values)

    def test_a_part_sits_on_the_ruler_and_answers_with_its_own_sound_level_and_range(self):
        self.add_part(level="90", pan="32", low="48", transpose="12")
        reedbed = self.instrument("Reedbed")
        (part,) = reedbed.parts
        cells = {cell.channel: cell.names for cell in channel_cells(self.plan, reedbed.send)}
        self.assertEqual((cells[reedbed.channel], cells[5]), (("Reedbed",), ("Reedbed: strings",)))
        cello = Patch.objects.get(name="Cello")
        self.client.post(reverse("instruments:pick", args=[reedbed.uid]), {"patch": cello.uid, "part": part.uid})
        job = Job.objects.get(kind="try-out")
        # Program 42, channel volume and pan on channel 5; the note on the first part's channel, and an octave up.
        on, off = f"9{reedbed.channel - 1:X}", f"8{reedbed.channel - 1:X}"
        self.assertEqual(
            job.result["bytes"],
            ["C4 2A", "B4 07 5A", "B4 0A 20", f"{on} 3C 64", "94 48 64", f"{off} 3C 40", "84 48 40"],
        )
        job.delete()
        self.client.post(reverse("instruments:try", args=[reedbed.uid]), {"note": 40, "velocity": 100, "length_s": 0.1})
        self.assertFalse([one for one in Job.objects.get().result["bytes"] if one.startswith("94")], "below its range")

    def test_a_track_plays_a_part_on_its_channel(self):
        self.add_part(level="90")
        reedbed = self.instrument("Reedbed")
        track = self.session.tracks.first()
        key = f"{reedbed.uid}/{reedbed.parts[0].uid}"
        self.client.post(reverse("session:tracks"), {f"{track.uid}-instrument_uid": key, f"{track.uid}-program": "7"})
        run = self.record(track.name)
        part = run.setup["parts"][0]
        self.assertEqual((part["channel"], part["calls"][-2:]), (5, ["c407", "b4075a"]))

    def test_all_parts_of_a_box_in_one_instrument_and_back(self):
        before = self.plan
        self.client.post(reverse("instruments:all-parts", args=[self.instrument("Reedbed").uid]))
        reedbed = self.instrument("Reedbed")
        self.assertEqual(sorted(seat.channel for seat in reedbed.seats), list(range(1, 17)))
        self.assertEqual(read_rig_file(write_rig_file(self.plan)), self.plan)
        self.client.post(reverse("instruments:remove-piece", args=[reedbed.uid, reedbed.parts[0].uid]))
        self.assertEqual(len(self.instrument("Reedbed").parts), 14)
        journal.undo(self.rig)
        journal.undo(self.rig)
        self.assertEqual(self.plan, before)

    def test_two_parts_on_one_channel_and_a_range_upside_down_are_told(self):
        answer = self.add_part(low="60", high="50")
        self.assertContains(answer, "The highest note is below the lowest one")
        self.assertContains(self.add_part(channel="17"), "less than or equal to 16")
        self.add_part(channel=str(self.instrument("Reedbed").channel))
        told = [finding.message for finding in check(self.plan) if finding.rule == "channel-shared"]
        self.assertIn("Two parts of Reedbed listen there. Both will sound.", told)


class WaysHomeTest(DemoTest):
    def add_kick(self, **fields):
        kit = self.instrument("Alder kit")
        values = {"name": "kick", "left": self.socket("Quayside 18", "mic 1")} | fields
        self.client.post(reverse("instruments:new-return", args=[kit.uid]), values)
        return self.instrument("Alder kit").further[0]

    def keep_voices(self, *rows: tuple[int | str, str, str]):
        values = {
            f"{name}_{number}": value
            for number, row in enumerate(rows)
            for name, value in zip(("note", "name", "home"), row, strict=True)
        }
        return self.client.post(reverse("instruments:voices", args=[self.instrument("Alder kit").uid]), values)

    def test_a_voice_with_a_way_home_of_its_own_gets_a_take_measured_by_its_own_notes(self):
        kick = self.add_kick(inverted="on")
        self.keep_voices((36, "kick", kick.uid), (38, "snare", ""), (42, "hat", ""))
        kit, kicks = self.track("Alder kit"), notes_of(self.track("Alder kick"))
        kit.notes = np.sort(np.concatenate([notes_of(kit), kicks]), order="tick").tobytes()
        kit.save()
        run = self.record("Alder kit", bars=(1, 8))
        takes = {take.return_name: take for take in run.takes.all()}
        self.assertEqual({name: take.channels for name, take in takes.items()}, {"": 2, "kick": 1})
        self.assertEqual(takes["kick"].title, "Alder kit, kick")
        found = takes["kick"].measured
        tempo = self.session.tempo_map
        played = int(np.sum(kicks["tick"] < tempo.bar_tick(9)))
        self.assertEqual((found.matched, found.missed, found.extra), (played, 0, 0))
        self.assertEqual(self.known("Alder kit").lateness_ms, takes[""].measured.lateness_ms)
        self.assertEqual((takes["kick"].inverted, takes[""].inverted), (True, False))
        line = time_line(self.session, self.plan)
        self.assertIn(b"polarity inverted", made_file(of_take(takes["kick"]), line, filled=False).read_bytes()[:700])

    def test_the_table_begins_with_another_map_and_faults_are_said_at_their_row(self):
        address = reverse("instruments:voices", args=[self.instrument("Alder kit").uid])
        self.assertContains(self.client.get(address), 'value="36"')
        self.assertContains(
            self.client.get(address, {"from": "General MIDI: Percussion (channel 10)"}), "Acoustic Bass Drum"
        )
        answer = self.keep_voices((36, "kick", ""), (36, "deep kick", ""), ("", "snare", ""))
        self.assertContains(answer, "Note 36 is in row 1 already.")
        self.assertContains(answer, "snare needs a note, 0 to 127.")
        self.assertEqual(self.instrument("Alder kit").voices, ())
        self.keep_voices((38, "snare", ""), (36, "kick", ""))
        self.assertEqual([v.note for v in self.instrument("Alder kit").voices], [36, 38])
        page = self.client.get(reverse("instruments:open", args=[self.instrument("Alder kit").uid]))
        self.assertContains(page, "<b>kick</b>")

    def test_another_one_like_it_has_its_parts_returns_and_voices_on_what_is_free(self):
        kick = self.add_kick()
        kit = self.instrument("Alder kit")
        self.keep_voices((36, "kick", kick.uid), (38, "snare", ""))
        values = PART | {"curve": "as played", "channel": "11"}
        self.client.post(reverse("instruments:new-part", args=[kit.uid]), values)
        model = self.instrument("Alder kit")
        copy = another(self.plan, model)
        used = {(seat.send, seat.channel) for seat in model.seats}
        self.assertFalse(used & {(seat.send, seat.channel) for seat in copy.seats})
        self.assertEqual(len({seat.channel for seat in copy.seats}), 2)
        self.assertEqual([part.name for part in copy.parts], ["strings"])
        self.assertNotEqual(copy.further[0].uid, kick.uid)
        self.assertEqual(copy.voices[0].home, copy.further[0].uid)
        self.assertFalse(set(copy.further[0].inputs) & set(model.inputs))

    def test_a_return_that_is_removed_lets_its_voices_come_home_with_the_rest(self):
        kick = self.add_kick()
        self.keep_voices((36, "kick", kick.uid))
        self.client.post(reverse("instruments:remove-piece", args=[self.instrument("Alder kit").uid, kick.uid]))
        kit = self.instrument("Alder kit")
        self.assertEqual((kit.further, kit.voices), ((), (Voice(note=36, name="kick"),)))

    def test_what_is_open_is_found_and_written_in_the_sentence(self):
        self.add_kick(left=self.socket("Quayside 18", "line in 3"))
        page = self.client.get(reverse("instruments:open", args=[self.instrument("Alder kit").uid]))
        self.assertContains(page, "kick comes home on")
        self.assertContains(page, "line in 3 brings Bittern, not Alder")
        self.add_kick(name="room", left="")
        rules = {finding.rule for finding in check(self.plan)}
        self.assertIn("further-return-open", rules)
