"""Jobs: done once, whatever dies; cancelled, refused and tried again with a sentence."""

import errno
import os
import re
import signal
import subprocess
import sys
import threading
import time
from datetime import timedelta
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.db import connection
from django.test import TestCase, TransactionTestCase
from django.urls import reverse
from django.utils import timezone

import kettle_web
from kettle_core.errors import TakeError
from kettle_engine.taking import TakingFlag
from kettle_web.jobs import doing as jobs_doing
from kettle_web.jobs import kinds
from kettle_web.jobs.kinds import load_kinds
from kettle_web.jobs.services import (
    LONG,
    MOST_TRIES,
    SOON,
    CancelledError,
    Holding,
    LostError,
    cancel,
    forget_old,
    order,
    take_next,
    try_again,
)
from kettle_web.models import Job, Take, Tutorial
from tests.web.working import do_jobs

did = []


def works(doing):
    did.append(doing.subject)
    doing.tell(1, 2, "parts")
    doing.tell(2, 2, "parts")


def paces(doing):
    began = timezone.now()
    for passed_s, done in ((100, 10), (110, 20), (120, 30)):
        now = began + timedelta(seconds=passed_s)
        with mock.patch.object(timezone, "now", lambda now=now: now):
            doing.tell(done, 100)
            did.append(Job.objects.get().left_s)


def fails(_doing):
    raise TakeError("The track headset is missing.")


def breaks(_doing):
    raise ZeroDivisionError("a mistake of ours")


def is_full(_doing):
    raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))


def is_cancelled_and_fails(_doing):
    cancel(job=Job.objects.get())
    raise TakeError("A device has not opened.")


def is_cancelled(doing):
    cancel(job=Job.objects.get())
    doing.tell(2, 2)
    did.append("went on")


def waits(doing):
    doing.give_way()
    did.append("after the take")


def is_taken_over(doing):
    Job.objects.update(heartbeat_at=timezone.now() - timedelta(minutes=1))
    other = take_next(LONG)
    Holding(other).end(Job.State.DONE, "by the other one")
    doing.tell(2, 2)
    did.append("went on")


def doing_this(function):
    """Have jobs of the kind "test" do it."""
    return mock.patch.dict(kinds._KINDS, {"test": function})


class OneJob(TestCase):
    def setUp(self):
        did.clear()
        self.enterContext(self.settings(DATA=settings.DATA))

    def order(self, function, **more):
        self.enterContext(doing_this(function))
        return order(kind="test", queue=LONG, subject="thing:1", title="A thing", **more)

    def done(self, function):
        job = self.order(function)
        do_jobs()
        job.refresh_from_db()
        return job

    def test_it_is_ordered_once_and_done_once(self):
        job = self.order(works)
        self.assertEqual(self.order(works), job)
        do_jobs()
        job.refresh_from_db()
        self.assertEqual((job.state, job.done, job.total, job.unit), ("done", 2, 2, "parts"))
        self.assertEqual(did, ["thing:1"])
        self.assertNotEqual(self.order(works), job)

    def test_what_is_to_be_done_next_is_taken_before_what_was_ordered_earlier(self):
        first, second, third = (
            order(kind="test", queue=LONG, subject=f"thing:{n}", title=f"Thing {n}") for n in "123"
        )
        order(kind="test", queue=SOON, subject="other", title="Of the other queue")
        page = self.client.get(reverse("jobs"))
        self.assertContains(page, "Do it next", count=2)
        self.client.post(reverse("do-job-next", args=[second.pk]))
        self.client.post(reverse("do-job-next", args=[third.pk]))
        told = self.client.get(reverse("jobs"), headers={"Accept": "application/json"}).json()
        named = [job["title"] for job in told["jobs"] if job["title"].startswith("Thing")]
        self.assertEqual(named, ["Thing 3", "Thing 2", "Thing 1"])
        self.assertEqual([take_next(LONG) for _ in range(3)], [third, second, first])
        # One that is done after all later has no precedence any more.
        third.refresh_from_db()
        Holding(third).end(Job.State.FAILED, "It was no good.")
        try_again(job=third)
        third.refresh_from_db()
        self.assertEqual((third.state, third.place), (Job.State.WAITING, 0))
        self.assertEqual(take_next(LONG), third)
        # What runs is not put back into the queue.
        self.client.post(reverse("do-job-next", args=[first.pk]))
        self.assertIsNone(take_next(LONG))

    def test_whatever_goes_wrong_ends_in_a_sentence_and_can_be_tried_again(self):
        for function, sentence in (
            (fails, "The track headset is missing."),
            (is_full, "No space left on device"),
            (breaks, "should not (ZeroDivisionError: a mistake of ours). The log says more."),
        ):
            with (
                self.subTest(function),
                self.assertLogs("kettle.worker") if function != fails else (mock.MagicMock()),
            ):
                Job.objects.all().delete()
                job = self.done(function)
                self.assertEqual(job.state, "failed")
                self.assertIn(sentence, job.sentence)
        self.assertContains(self.client.get(reverse("jobs")), "a mistake of ours")
        with doing_this(works):
            self.client.post(reverse("try-job-again", args=[job.pk]))
            do_jobs()
        job.refresh_from_db()
        self.assertEqual((job.state, job.sentence), ("done", ""))

    def test_its_end_is_told_by_its_pace_since_it_first_said_how_far_it_is(self):
        with mock.patch.object(jobs_doing, "TELL_EVERY_S", 0):
            self.done(paces)
        # It had needed 100 s to begin.
        self.assertEqual(did, [None, 80.0, 70.0])

    def test_what_waits_is_cancelled_at_once_and_what_runs_as_soon_as_it_says_something(self):
        job = self.order(works)
        self.client.post(reverse("cancel-job", args=[job.pk]))
        do_jobs()
        job.refresh_from_db()
        self.assertEqual((job.state, did), ("cancelled", []))
        Job.objects.all().delete()
        self.assertEqual((self.done(is_cancelled).state, did), ("cancelled", []))
        Job.objects.all().delete()
        # What it met with meanwhile is nobody's concern any more.
        job = self.done(is_cancelled_and_fails)
        self.assertEqual((job.state, job.sentence), ("cancelled", ""))

    def test_what_is_ordered_afresh_ends_what_is_being_done(self):
        first = self.order(works)
        take_next(LONG)
        second = self.order(works, afresh=True)
        self.assertNotEqual(first, second)
        first.refresh_from_db()
        with self.assertRaises(CancelledError):
            Holding(first).write(done=1)

    def test_who_was_taken_over_writes_nothing_more(self):
        with self.assertLogs("kettle.worker", "WARNING"):
            job = self.done(is_taken_over)
        self.assertEqual((job.state, job.sentence, did), ("done", "by the other one", []))
        with self.assertRaises(LostError):
            Holding(job).write(done=1)

    def test_what_nobody_survives_is_left_alone_with_the_reason(self):
        job = self.order(works)
        for _ in range(MOST_TRIES):
            self.assertEqual(take_next(LONG), job)
            Job.objects.update(heartbeat_at=timezone.now() - timedelta(seconds=30))
        self.assertIsNone(take_next(LONG))
        job.refresh_from_db()
        self.assertEqual(job.state, "failed")
        self.assertIn("It ended 3 times", job.sentence)

    def test_it_waits_for_a_take_says_so_and_can_be_cancelled_meanwhile(self):
        job = self.order(waits)
        flag = TakingFlag(settings.DATA)
        self.addCleanup(flag.close)
        while not flag.is_up:
            flag.put(True)
        said = []
        with mock.patch.object(Holding, "write", lambda _self, **values: said.append(values)):
            threading.Timer(0.5, flag.put, (False,)).start()
            do_jobs()
        self.assertEqual([v["sentence"] for v in said if "sentence" in v], [jobs_doing.WAITS, ""])
        self.assertEqual(did, ["after the take"])
        job.refresh_from_db()
        self.assertEqual(job.state, "done")

    def test_old_ones_are_forgotten(self):
        job = self.done(works)
        forget_old()
        self.assertTrue(Job.objects.exists())
        Job.objects.filter(pk=job.pk).update(ended_at=timezone.now() - timedelta(days=8))
        # A take without its survey's job would have that ordered again.
        tutorial = Tutorial.objects.create()
        take = {"tutorial": tutorial, "recorded_at": timezone.now()}
        take = Take.objects.create(**take, folder="t", survey_job=job)
        forget_old()
        self.assertTrue(Job.objects.exists())
        take.delete()
        forget_old()
        self.assertFalse(Job.objects.exists())

    def test_every_kind_that_is_ordered_is_registered(self):
        load_kinds()
        ordered = set()
        for path in Path(kettle_web.__file__).parent.rglob("*.py"):
            ordered |= set(re.findall(r'order\(\s*kind="([\w-]+)"', path.read_text()))
        self.assertGreater(len(ordered), 8)
        self.assertLessEqual(ordered, set(kinds._KINDS))


class Workers(TransactionTestCase):
    def test_two_that_look_at_once_never_take_the_same(self):
        for n in range(30):
            order(kind="test", queue=LONG, subject=f"thing:{n}", title="A thing")
        taken, start = [], threading.Barrier(4)

        def look():
            start.wait()
            while job := take_next(LONG):
                taken.append(job.pk)
            connection.close()

        threads = [threading.Thread(target=look) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(sorted(taken), sorted(Job.objects.values_list("pk", flat=True)))

    def work(self):
        """A real worker on this test's database."""
        script = (
            "from unittest import mock; from kettle_web import settings;"
            f"settings.DATABASES['default']['NAME'] = {str(connection.settings_dict['NAME'])!r};"
            "import django; django.setup();"
            "from kettle_web.jobs import kinds, worker; from tests.web.test_jobs import sleeps;"
            "kinds.job_kind('test')(sleeps);"
            "worker.work('long')"
        )
        environment = {**os.environ, "KETTLE_DATA": str(settings.DATA)}
        environment["DJANGO_SETTINGS_MODULE"] = "kettle_web.settings"
        process = subprocess.Popen([sys.executable, "-c", script], env=environment)
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)
        return process

    def until(self, state, tries, every_s=0.05):
        deadline = time.monotonic() + 60
        while (job := Job.objects.get()).state != state or job.tries != tries:
            self.assertLess(time.monotonic(), deadline, vars(job))
            time.sleep(every_s)
        return job

    def test_a_killed_workers_job_is_taken_up_again_and_an_ended_ones_is_given_back(self):
        order(kind="test", queue=LONG, subject="thing:1", title="A thing")
        first = self.work()
        token = self.until("running", 1).token
        first.send_signal(signal.SIGKILL)
        first.wait()
        second = self.work()
        # However early it is ended after it has taken the job.
        self.assertGreater(self.until("running", 2, every_s=0.001).token, token)
        second.terminate()
        second.wait()
        self.until("waiting", 1)


def sleeps(doing):
    while True:
        time.sleep(0.05)
        doing.tell(1, 2)
