"""Questions between processes: each is answered once, whatever happens to who was asked."""

import time
import unittest

from kettle_core.errors import EngineError
from kettle_engine.processes import Child
from kettle_engine.questions import Questions, Way

SOON_NS = 60 * 10**9


class Asking(unittest.TestCase):
    def setUp(self):
        self.questions, self.answers = Questions(), []
        self.child = self.process()

    def process(self):
        child = Child("echo", "tests.engine.odd_work:echo", tuple, 30.0)
        child.start()
        self.addCleanup(child.wait, 20)
        self.addCleanup(child.leave)
        return child

    def ask(self, child, name, after_ns=SOON_NS):
        way = Way(self.answers.append, time.monotonic_ns() + after_ns)
        self.questions.ask(child, name, {}, way)

    def heard(self, child, count):
        found, deadline = [], time.monotonic() + 60
        while len(found) < count:
            self.assertLess(time.monotonic(), deadline)
            found += child.messages()
        return [message[2] for message in found]

    def test_answers_find_who_asked_in_any_order_and_once(self):
        for name in ("first", "second"):
            self.ask(self.child, name)
        first, second = self.heard(self.child, 2)
        self.questions.answer(second, "b")
        self.questions.answer(first, "a")
        self.questions.answer(first, "again")
        self.assertEqual(self.answers, ["b", "a"])

    def test_what_a_process_was_asked_that_died_is_answered_and_nothing_else(self):
        other = self.process()
        self.ask(self.child, "mine")
        self.ask(other, "other")
        self.questions.give_up(self.child)
        (answer,) = self.answers
        self.assertIn("is started again", str(answer))
        self.questions.answer(self.heard(other, 1)[0], "still")
        self.assertEqual(self.answers[1], "still")

    def test_what_waits_too_long_is_told_and_a_late_answer_is_nobodys(self):
        self.ask(self.child, "slow", after_ns=-1)
        self.ask(self.child, "quick")
        self.questions.expire()
        self.assertIn("did not answer in time", str(self.answers[0]))
        slow, quick = self.heard(self.child, 2)
        self.questions.answer(slow, "late")
        self.questions.answer(quick, "there")
        self.assertEqual(self.answers[1:], ["there"])

    def test_one_that_is_not_there_cannot_be_asked(self):
        self.child.leave()
        with self.assertRaisesRegex(EngineError, "Try it once more"):
            self.ask(self.child, "anything")
        self.assertEqual(self.answers, [])
