"""What ends while a page is made is shown as it ended, or asked again."""

from unittest import mock

from hypotaxis.steps.session.services import picture, recording
from tests.web.base import DemoTest
from tests.web.test_work import without_queue


class OrderTest(DemoTest):
    def test_takes_that_are_placed_while_the_page_is_made_are_shown_placed_or_polled_for(self):
        with without_queue("measuring"):
            run = self.record("Alder kit")
        original = picture.latest_measured

        def just_then(session):
            found = original(session)
            recording.measure_takes(str(run.measuring_id))
            return found

        with mock.patch.object(picture, "latest_measured", just_then):
            page = self.page("session:home")
        self.assertIn("measuring take 1 of 1", page)
        self.assertIn(f"/session/pass/{run.uid}/measuring/", page)

        def a_moment_before(session):
            recording.measure_takes(str(run.measuring_id))
            return original(session)

        with mock.patch.object(picture, "latest_measured", a_moment_before):
            page = self.page("session:home")
        self.assertIn("1 take measured, placed", page)
        self.assertNotIn("not placed", page)
