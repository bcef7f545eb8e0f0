"""A process as the engine sees it: spoken to, watched, ended, started again."""

import os
import signal
import time
import unittest

from kettle_engine.processes import OFTEN, Child
from tests.engine.waiting import Waiting

WORK = "tests.engine.odd_work"


class Children(Waiting, unittest.TestCase):
    def child(self, work, *arguments, silent_limit_s=30.0, **more):
        child = Child(work, f"{WORK}:{work}", lambda: arguments, silent_limit_s, **more)
        self.addCleanup(self.end, child)
        child.start()
        return child

    @staticmethod
    def end(child):
        child.kill()
        child.wait(10)
        child.bury()

    def why(self, child):
        """Why it has to be ended, looked at ten times a second for 3 s at most."""
        for _ in range(30):
            if found := child.look(0.1):
                return found
            time.sleep(0.1)
        return ""

    def test_it_hears_and_answers_and_leaves_when_it_is_left(self):
        child = self.child("echo")
        self.assertTrue(child.send("kettle", 1))
        self.assertEqual(self.until(child.messages), [("heard", "kettle", 1)])
        child.leave()
        self.assertFalse(child.send("more"))
        self.assertTrue(child.wait(20))
        self.assertEqual(child.bury(), 0)
        self.assertEqual((child.pid, child.is_alive), (0, False))

    def test_one_that_is_silent_is_to_be_ended_and_one_that_says_it_is_busy_is_not(self):
        silent = self.child("say_nothing", silent_limit_s=1.0)
        self.until(silent.messages)
        self.assertEqual(self.why(silent), "did not answer for 1 s")
        busy = self.child("work_long", 600.0, silent_limit_s=1.0)
        self.until(busy.messages)
        self.assertEqual(self.why(busy), "")
        # Nobody is busy for ever.
        stuck = self.child("work_long", 0.5, silent_limit_s=1.0)
        self.until(stuck.messages)
        self.assertEqual(self.why(stuck), "did not answer for 1 s")

    def test_one_that_is_stopped_is_known_not_to_be_merely_slow(self):
        child = self.child("say_nothing", stopped_limit_s=0.4)
        self.until(child.messages)
        self.assertEqual([child.look(0.1) for _ in range(20)], [""] * 20)
        os.kill(child.pid, signal.SIGSTOP)
        self.assertEqual(self.why(child), "was stopped")

    def test_a_machine_that_stood_still_is_no_silence(self):
        silent = self.child("say_nothing", silent_limit_s=1.0)
        self.until(silent.messages)
        silent.look(0.1)
        self.assertEqual(silent.look(3600.0), "")

    def test_one_that_eats_memory_is_to_be_ended(self):
        child = self.child("eat", most_bytes=150_000_000)
        self.assertIn("took more than 150 MB", self.until(lambda: child.look(0.1)))

    def test_a_mistake_ends_it_with_its_last_words_heard(self):
        child = self.child("fail")
        self.assertTrue(child.wait(30))
        self.assertEqual(child.messages(), [("last words",)])
        self.assertEqual(child.bury(), 1)

    def test_one_that_ends_again_and_again_is_started_more_slowly(self):
        child = self.child("fail")
        for number in range(OFTEN):
            self.assertTrue(child.wait(30))
            child.bury()
            self.assertEqual(child.may_start_at > time.monotonic(), number + 1 == OFTEN)
            if number + 1 < OFTEN:
                child.start()
        self.assertEqual(child.started, OFTEN)
