"""A take that holds what it should not is kept and shown, and never believed by itself; which take stands."""

from django.test import Client
from django.urls import reverse

from hypotaxis.records.models import FrontPanel, Pass, Session, Take
from hypotaxis.steps.session.services import placing
from tests.rooms import box_named
from tests.web.base import DemoTest


class DoubtfulTest(DemoTest):
    def set_panel(self, box: str, **settings) -> None:
        """As if on the box itself; the plan knows nothing of it."""
        panel = FrontPanel.objects.filter(box_uid=box_named(self.plan, box).uid)
        panel.update(settings=panel.get().settings | settings)

    def test_a_take_that_holds_another_part_is_named_and_not_believed(self):
        self.set_panel("Sedge", channels=[3, 2])
        run = self.record("Bittern", "Sedge upper", bars=(1, 4))
        take = run.takes.get(track__name="Sedge upper")
        self.assertTrue(take.doubtful, take.measurement)
        self.assertIsNone(take.placement)
        self.assertNotEqual(self.known("Sedge upper").source, "take")
        self.assertNotIn(take, Take.objects.measured())
        page = self.page("session:home")
        self.assertIn("This is what Bittern on channel 3 plays.", page)
        self.assertIn("1 of them is doubtful", page)
        self.assertIn("Record its pass again", page)
        if take.measured:
            placing.place(take)
            self.assertFalse(Take.objects.get(uid=take.uid).doubtful, "taken as it is by the person")

    def test_a_box_that_was_not_asked_and_answers_is_named(self):
        self.set_panel("Bittern", channels=[1])
        take = self.record("Sedge upper", bars=(1, 4)).takes.get()
        self.assertIn("Bittern answered too, on line in 3", " ".join(one.what for one in take.doubted))
        self.assertIsNone(take.placement)
        form = {"note": 60, "velocity": 100, "length_s": 0.3, "fast": "on"}
        sedge = self.instrument("Sedge upper").uid
        answer = self.client.post(reverse("instruments:try", args=[sedge]), form, follow=True)
        self.assertContains(answer, "Bittern answered too, on line in 3")

    def test_a_clean_pass_raises_no_doubt(self):
        run = self.record("Alder kit", "Alder kick", "Bittern", "Sedge upper", bars=(1, 4))
        self.assertEqual([take.doubts for take in run.takes.all()], [[]] * 4)
        self.assertEqual(run.moved, [])

    def test_a_short_newer_take_leaves_the_older_one_standing_behind_it(self):
        first = self.record("Alder kit", bars=(1, 4)).takes.get()
        whole = self.drawn("Alder kit")
        second = self.record("Alder kit", bars=(1, 1)).takes.get()
        self.assertTrue(first.good and second.good)
        self.assertGreater(len(self.drawn("Alder kit")), 0.6 * len(whole))
        self.assertEqual(self.drawn("Alder kit").count("z"), 2)

    def test_a_silent_take_neither_stands_nor_silences(self):
        self.record("Bittern", bars=(1, 4))
        before = self.drawn("Bittern")
        self.set_panel("Bittern", channels=[16])
        silent = self.record("Bittern", bars=(1, 4)).takes.get()
        self.assertTrue(silent.silent)
        self.assertEqual(self.drawn("Bittern"), before)
        Take.objects.exclude(uid=silent.uid).delete()
        self.assertIn("open", self.live("Bittern"))
        self.assertEqual(Pass.objects.count(), 2)

    def drawn(self, name: str) -> str:
        return self.view_of(name).sound_path

    def live(self, name: str) -> str:
        return self.view_of(name).live

    def view_of(self, name: str):
        tracks = self.client.get(reverse("session:home")).context["tracks"]
        return next(one for one in tracks if one.row.name == name)


class RememberedTest(DemoTest):
    def test_what_was_typed_for_the_next_pass_is_still_there(self):
        typed = {"first_bar": "3", "last_bar": "6", "times": "1", "led": "", "run_in": "x" * 99, "stray": "1"}
        self.client.post(reverse("session:pass-settings"), typed)
        # In any browser: it is kept with the session.
        form = Client().get(reverse("session:home")).context["pass_form"]
        kept = {"first_bar": "3", "last_bar": "6", "times": "1", "run_in": "x" * 40, "count_in": 0, "led": ""}
        self.assertEqual(form.initial, kept | {"reference": "", "place": False, "fast": False, "until_stop": False})
        for other in ("x", "%%%", "first_bar=&last_bar="):
            Session.objects.update(pass_typed=other)
            form = self.client.get(reverse("session:home")).context["pass_form"]
            self.assertEqual((form.initial["first_bar"], form.initial["last_bar"]), (1, 16))

    def test_the_title_row_tells_of_every_tempo(self):
        row = self.session
        row.tempos = [*row.tempos, [1920, 500_000]]
        row.save()
        self.assertIn("96–120 BPM", self.page("session:home"))
