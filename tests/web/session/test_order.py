"""What ends while a page is made is shown as it ended, or asked again."""

import uuid
from unittest import mock

from django.db import connection
from django.urls import reverse

from hypotaxis.records.models import Job, Pass, Take
from hypotaxis.records.standing import every_take
from hypotaxis.steps.session.services import picture, recording
from hypotaxis.steps.session.services.placing import measure_each, place
from tests.web.base import DemoTest
from tests.web.test_work import without_queue


class OrderTest(DemoTest):
    def test_takes_that_are_placed_while_the_page_is_made_are_shown_placed_or_polled_for(self):
        with without_queue("measuring"):
            run = self.record("Alder kit")
        original = picture.waits_for_answer

        def just_then(latest):
            found = original(latest)
            recording.measure_takes(str(run.measuring_id))
            return found

        with mock.patch.object(picture, "waits_for_answer", just_then):
            page = self.page("session:home")
        self.assertIn("measuring take 1 of 1", page)
        self.assertIn(f"/session/pass/{run.uid}/measuring/", page)

        newest = picture.newest_pass

        def a_moment_before(session):
            recording.measure_takes(str(run.measuring_id))
            return newest(session)

        with mock.patch.object(picture, "newest_pass", a_moment_before):
            page = self.page("session:home")
        self.assertIn("1 take measured, placed", page)
        self.assertNotIn("not placed", page)

    def test_a_take_is_shown_measured_as_soon_as_it_is_while_others_of_its_pass_wait(self):
        with without_queue("measuring"):
            run = self.record("Alder kit", "Bittern")
        address = reverse("session:measuring", args=[run.uid])
        self.assertIn('data-state=""', self.page("session:home"))
        first, second = run.takes.order_by("number")
        list(measure_each([first], lambda share: None))
        answer = self.client.get(address, headers={"X-State": ""})
        self.assertEqual((answer["X-State"], answer["X-Finished"]), (str(first.number), "0"))
        self.assertContains(answer, f'data-part="take-{first.number}"')
        self.assertContains(answer, f'data-part="strip-{first.track_id}"')
        self.assertNotContains(answer, f'data-part="take-{second.number}"')
        self.assertContains(answer, "Place the take")
        # What the page holds already is not sent again, so that nobody's hand or ear is interrupted.
        answer = self.client.get(address, headers={"X-State": str(first.number)})
        self.assertNotContains(answer, 'data-part="take-')
        place(Take.objects.get(uid=first.uid))
        answer = self.client.get(address, headers={"X-State": str(first.number)})
        self.assertContains(answer, f'data-part="take-{first.number}"')
        self.assertNotContains(answer, "Place the take")
        recording.measure_takes(str(run.measuring_id))
        self.assertEqual(self.client.get(address)["X-Finished"], "1")

    def test_a_pass_that_ends_while_its_takes_are_looked_for_breaks_no_page(self):
        run = self.record("Alder kit")
        ended = []

        def just_then(execute, sql, *rest):
            answer = execute(sql, *rest)
            if not ended and sql.startswith("SELECT") and ("records_pass" in sql or "records_take" in sql):
                ended.append(run)
                take = run.takes.get()
                job = Job.objects.create(kind="pass", state=Job.DONE)
                other = Pass.objects.get()
                other.pk, other.number, other.job, other.measuring = uuid.uuid4(), 2, job, None
                other.save(force_insert=True)
                take.pk, take.number, take.run = uuid.uuid4(), 2, other
                take.save(force_insert=True)
            return answer

        with connection.execute_wrapper(just_then):
            self.assertIn(len(every_take(self.session)), (1, 2))
        self.assertEqual([take.offered.number for take in every_take(self.session)], [2, 1])
