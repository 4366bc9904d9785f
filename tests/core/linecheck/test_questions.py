"""What is asked of the person about a silent line, and what the answers say."""

import unittest
from dataclasses import replace

from hypotaxis.core.linecheck.questions import LAMP, REACHES, SHOWS, SOUNDS, Question, Said, Silent, ask

LINE = Silent("Sedge", "Junction 6 out 2", "line in 1–2")


class QuestionsTest(unittest.TestCase):
    def test_one_question_follows_the_other_until_the_cause_is_told(self):
        answers: dict[str, bool] = {}
        for key, no in ((LAMP, "Nothing leaves by"), (SHOWS, "do not reach Sedge"), (SOUNDS, "makes no sound of them")):
            found = ask(LINE, answers)
            self.assertEqual(found.key, key)
            said = ask(LINE, answers | {key: False})
            self.assertIsInstance(said, Said)
            self.assertIn(no, said.told)
            answers[key] = True
        self.assertIn("nothing of it reaches line in 1–2", ask(LINE, answers).told)

    def test_what_the_check_knows_is_not_asked(self):
        self.assertEqual(ask(replace(LINE, leaves=True), {}).key, SHOWS)
        self.assertEqual(ask(replace(LINE, arrives=True), {}).key, SOUNDS)

    def test_an_effect_is_asked_about_what_is_sent_to_it(self):
        effect = replace(LINE, box="Eelgrass", is_effect=True)
        self.assertIsInstance(ask(effect, {}), Question)
        self.assertIn("does not reach Eelgrass", ask(effect, {REACHES: False}).told)
        self.assertIn("gets what is sent", ask(effect, {REACHES: True}).told)
