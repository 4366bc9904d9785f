"""The stand view: what it shows, what its buttons do, by whomever they are pressed."""

from unittest import mock

from django.test import Client
from django.urls import reverse

from hypotaxis.core.midi.messages import NOTE_ON, note_on
from hypotaxis.core.studio import Block, KeptOut, Message, RunSetup
from hypotaxis.records.models import FrontPanel, Job, Pass, PassPlan, Session, Stand, Take
from hypotaxis.records.studio import Silence, stand_keys, studio_for
from hypotaxis.steps.session.services import moving_on, planning, recording
from hypotaxis.web.stand import keys
from tests.rooms import box_named
from tests.web.base import DemoTest


class StandTest(DemoTest):
    def setUp(self):
        super().setUp()
        self.plug_sluice()
        typed = {"first_bar": "1", "last_bar": "2", "times": "1", "place": "on", "fast": "on"}
        self.client.post(reverse("session:pass-settings"), typed)

    def shown(self, client: Client | None = None) -> dict:
        return (client or self.client).get(reverse("stand:state")).json()

    def press(self, act: str, **more: str) -> dict:
        return self.client.post(reverse("stand:act"), {"act": act} | more).json()

    def arm(self, *names: str) -> None:
        for name in names:
            self.press("arm", about=str(self.track(name).uid))


class RecordTest(StandTest):
    def test_before_anything_is_armed_it_says_what_to_do(self):
        now = self.shown()
        self.assertEqual((now["title"], now["sub"], now["piece"]), ("Ready", "nothing armed", "Tide Tables, 96 BPM"))
        self.assertEqual((now["main"]["told"], now["main"]["on"]), ("choose a track first", False))
        self.assertEqual((now["bar_of"], now["bars"], now["time"]), ("bar, from 1 to 2", "2 bars", "0:05"))
        self.assertEqual(now["verdict"]["told"], "No pass has been recorded yet.")
        self.assertFalse(now["repeat"]["on"] or now["accept"]["on"])

    def test_tracks_are_chosen_recorded_repeated_and_accepted(self):
        self.arm("Bittern", "Sedge upper")
        self.assertEqual([one["name"] for one in self.shown()["armed"]], ["Bittern", "Sedge upper"])
        now = self.press("record", token="one")
        self.assertEqual(now["told"], "Pass 1 is recorded.")
        self.assertRegex(now["verdict"]["told"], r"^Placed\. \d+ of \d+ notes heard\.$")
        self.assertEqual(now["verdict"]["of"], "Pass 1, Sedge upper, Bittern")
        self.press("record", token="one")
        self.assertEqual(Pass.objects.count(), 1)
        self.assertEqual(self.press("repeat")["told"], "Pass 2 is recorded.")
        now = self.press("accept")
        self.assertEqual((now["told"], now["verdict"]["told"]), ("Pass 2 stands.", "It stands."))
        self.assertFalse(now["accept"]["on"])
        self.arm("Bittern")
        self.assertEqual([one["name"] for one in self.shown()["armed"]], ["Sedge upper"])

    def test_what_is_amiss_is_said_with_the_choice(self):
        box = box_named(self.plan, "Bittern")
        FrontPanel.objects.update_or_create(box_uid=box.uid, defaults={"settings": {"channels": [9]}})
        self.arm("Bittern")
        now = self.press("record")
        self.assertEqual(now["verdict"]["told"], "Bittern: silent. Repeat it, or accept it?")
        self.assertTrue(now["verdict"]["wrong"])

    def test_the_next_pass_of_a_plan_is_recorded_and_no_other(self):
        row = planning.plan_anew(self.session, self.plan, first_bar=1, last_bar=2, fast=True)
        passes = row.columns.count()
        now = self.shown()
        self.assertEqual(now["sub"], f"for pass 1 of {passes}")
        self.assertRegex(now["main"]["told"], "^pass 1: ")
        self.press("record")
        self.assertEqual(planning.plan_state(self.session).states.count(planning.WAITS), passes - 1)
        self.press("repeat")
        runs = Pass.objects.filter(planned=row.columns.first())
        self.assertEqual(runs.count(), 2)
        self.assertEqual(planning.plan_state(self.session).waits, passes - 1)

    def test_accepting_what_is_still_measured_leaves_the_row_of_the_plan_alone(self):
        row = planning.plan_anew(self.session, self.plan, first_bar=1, last_bar=2, fast=True)
        self.press("record")
        run = Pass.objects.get()
        plan_job = PassPlan.objects.get(uid=row.uid).job
        Job.objects.filter(uid__in=[run.measuring_id, plan_job.uid]).update(state=Job.RUNNING)
        with mock.patch.object(moving_on, "ask"):
            self.assertEqual(self.press("accept")["told"], "It stands as soon as it is measured.")
        self.assertFalse(Job.objects.get(uid=plan_job.uid).cancel)

    def test_a_pass_that_runs_is_shown_with_where_it_is_and_its_clip(self):
        self.arm("Bittern")
        self.press("record")
        run = Pass.objects.get()
        Job.objects.filter(uid=run.job_id).update(state=Job.RUNNING, progress=0.6, remaining_s=2.2)
        rate, first = run.frozen.rate, run.frozen.first_sample
        meters = [one | {"clips": 2, "peak": 0.0, "clipped_at": round(3 * rate) - first} for one in run.meters]
        Pass.objects.update(meters=meters)
        now = self.shown()
        self.assertEqual((now["title"], now["sub"], now["doing"]), ("Recording", "pass 1", "recording"))
        # 96 BPM: a bar lasts 2.5 s; 3 s is the second one.
        self.assertEqual(now["armed"][0]["wrong"], "clipped, bar 2")
        self.assertEqual((now["bar"], now["time"], now["main"]["name"]), ("2", "0:02", "Stop"))
        self.assertEqual((now["repeat"]["told"], now["accept"]["told"]), ("from the top", "ends it, lets it stand"))
        self.assertFalse(now["check"]["on"] or now["sound"]["on"])
        self.assertEqual(self.press("try")["told"], "A pass is recorded. Sounds are tried when it has ended.")

    def test_what_is_asked_of_a_pass_that_runs_waits_for_its_end(self):
        self.arm("Bittern")
        self.press("record")
        run = Pass.objects.get()
        Job.objects.filter(uid=run.job_id).update(state=Job.RUNNING, progress=0.5)
        with mock.patch.object(moving_on, "ask") as asked:
            self.assertEqual(self.press("repeat")["told"], "It ends, and begins once more.")
        self.assertTrue(Job.objects.get(uid=run.job_id).cancel)

        def ended(_: float) -> None:
            Job.objects.filter(uid=run.job_id).update(state=Job.CANCELLED)

        with mock.patch.object(moving_on.time, "sleep", ended):
            moving_on.ask(*asked.call_args.args, **asked.call_args.kwargs)
        self.assertEqual(Pass.objects.count(), 2)

    def test_accepting_what_brought_nothing_is_refused_in_words(self):
        self.arm("Bittern")
        self.press("record")
        Take.objects.all().delete()
        told = "Nothing came of pass 1, so nothing can stand. Repeat it."
        self.assertEqual((self.press("accept")["told"], self.press("accept")["told_wrong"]), (told, True))


class ChoiceTest(StandTest):
    def another(self) -> Session:
        how = {"tempos": [[0, 500_000]], "meters": [[0, 4, 4]], "end_tick": 1920}
        return Session.objects.create(rig=self.rig, name="Ebb", **how)

    def test_everyone_sees_the_session_and_the_sound_that_were_chosen(self):
        other = self.another()
        self.client.post(reverse("stand:choice"), {"session": str(other.uid)})
        alder = self.instrument("Alder kit")
        self.client.post(reverse("stand:choice"), {"sound": f"{alder.uid}/"})
        for client in (self.client, Client()):
            now = self.shown(client)
            self.assertEqual((now["piece"], now["sound_key"]), ("Ebb, 120 BPM", f"{alder.uid}/"))
        self.client.post(reverse("stand:choice"), {"session": "nope", "sound": "nope/nope"})
        self.assertEqual(self.shown()["session"], str(other.uid))
        other.away = True
        other.save()
        self.assertEqual(self.shown()["piece"], "Tide Tables, 96 BPM")

    def test_a_session_in_which_something_is_recorded_comes_first(self):
        self.arm("Bittern")
        self.press("record")
        self.another()
        Stand.objects.update(session="")
        self.assertEqual(self.shown()["piece"], "Tide Tables, 96 BPM")

    def test_sounds_are_stepped_through_and_played(self):
        self.choose_sound("Sedge upper")
        names = [self.press(act)["sound"]["name"] for act in ("next", "next", "previous")]
        self.assertEqual(names[0], names[2])
        self.assertNotEqual(names[0], names[1])
        self.assertEqual(Job.objects.filter(kind="try-out", state=Job.DONE).count(), 3)
        first = self.press("previous")
        self.assertEqual((first["told"], first["told_wrong"]), ("That is the end of the list.", True))
        self.choose_sound("Bittern")
        self.assertIn("No list names the sounds of Bittern", self.press("next")["told"])
        self.assertFalse(self.press("try")["told_wrong"])

    def choose_sound(self, name: str) -> None:
        self.client.post(reverse("stand:choice"), {"sound": f"{self.instrument(name).uid}/"})

    def test_the_line_check_is_told_and_an_unknown_button_refused(self):
        now = self.press("check")
        self.assertEqual(now["verdict"]["of"], "Line check, 8 lines")
        self.assertEqual(self.press("format")["told"], "This button is not known. Load the page anew.")
        self.assertEqual(self.client.get(reverse("stand:act")).status_code, 405)

    def test_without_a_session_it_says_so(self):
        Session.objects.all().delete()
        now = self.press("record")
        self.assertIn("There is no session yet", now["told"])
        self.assertEqual(self.client.get(reverse("stand:home")).status_code, 200)

    def test_panic_ends_everything_that_sounds_and_nothing_else(self):
        kinds = ("pass", "pass plan", "line check", "part loop", "memory", "bounce", "recall", "measuring", "tempo in")
        for kind in kinds:
            Job.objects.create(kind=kind, state=Job.RUNNING)
        self.assertEqual(self.press("panic")["told"], "What played is ended.")
        going_on = set(Job.objects.filter(cancel=False).values_list("kind", flat=True))
        self.assertEqual(going_on & set(kinds), {"measuring", "tempo in"})


class KeysTest(StandTest):
    PAD = KeptOut("Heron", NOTE_ON, 10, 36)

    def run_with(self, *data: bytes) -> list[Block]:
        """What a run delivers, of a studio in which these come in."""

        def blocks(source, setup: RunSetup):
            yield Block(0, [], tuple(Message(0, "Heron", one) for one in data))

        with (
            studio_for(self.plan) as studio,
            mock.patch.object(studio._studio, "run", blocks),
            mock.patch("threading.Thread", lambda target, args, daemon: mock.Mock(start=lambda: target(*args))),
        ):
            return list(studio.run(Silence(), RunSetup(frames=1)))

    def test_a_key_presses_its_button_and_is_not_delivered(self):
        keys.keep("record", self.PAD)
        self.arm("Bittern")
        with mock.patch.object(keys, "close_old_connections"), mock.patch.object(keys, "act") as act:
            (block,) = self.run_with(note_on(10, 36, 90), note_on(1, 60, 90))
        act.assert_called_once_with("record")
        self.assertEqual([one.data for one in block.received], [note_on(1, 60, 90)])

    def test_a_key_is_learned_by_pressing_it_and_counts_for_one_button(self):
        with mock.patch.object(keys, "studio_for") as opened:
            opened.return_value.__enter__.return_value.sample_rate = 48_000
            opened.return_value.__enter__.return_value.run = lambda source, setup: iter(
                [Block(0, [], (Message(0, "Heron", note_on(10, 36, 90)),))]
            )
            for act in ("record", "panic"):
                page = self.client.post(reverse("stand:keys"), {"act": act, "to": "learn"}, follow=True)
        self.assertContains(page, "key C2 on channel 10 of Heron", count=1)
        self.assertEqual([one.act for one in stand_keys()], ["panic"])
        page = self.client.post(reverse("stand:keys"), {"act": "panic", "to": "forget"}, follow=True)
        self.assertNotContains(page, "of Heron")

    def test_where_nothing_is_pressed_it_says_what_to_look_at(self):
        page = self.client.post(reverse("stand:keys"), {"act": "record", "to": "learn"}, follow=True)
        self.assertContains(page, "port is there, then press again.")
        page = self.client.post(reverse("stand:keys"), {"act": "nope", "to": "learn"}, follow=True)
        self.assertContains(page, "This button is not known.")

    def test_settings_that_are_none_of_the_session_are_told(self):
        self.arm("Bittern")
        recording.keep_settings(self.session, {"first_bar": "x", "last_bar": "2"})
        self.assertIn("none of this session's", self.press("record")["told"])
        self.assertEqual(self.shown()["bar_of"], "bar, from 1 to 2")
