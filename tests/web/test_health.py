"""/health/ says which part does not answer."""

from datetime import timedelta
from unittest import mock

from django.db import DatabaseError
from django.test import TestCase
from django.utils import timezone

from kettle_core.errors import EngineError
from kettle_web.models import Worker
from tests.web.test_inputs import FakeEngine


class Health(TestCase):
    def setUp(self):
        now = timezone.now()
        Worker.objects.bulk_create(Worker(queue=q, seen_at=now) for q in ("soon", "long"))
        client = mock.patch("kettle_web.frame.engine.EngineClient", lambda _data: FakeEngine())
        self.enterContext(client)

    def told(self, status):
        answer = self.client.get("/health/")
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def test_all_is_well_when_every_part_answers(self):
        told = self.told(200)
        self.assertTrue(told["well"])
        self.assertEqual(told["engine"], "watching")

    def test_each_part_that_does_not_is_named(self):
        Worker.objects.filter(queue="long").update(seen_at=timezone.now() - timedelta(minutes=2))
        told = self.told(503)
        self.assertEqual(told["worker soon"], "works")
        self.assertIn("not been heard of", told["worker long"])
        Worker.objects.update(seen_at=timezone.now())
        with mock.patch("kettle_web.frame.health.shutil.disk_usage") as usage:
            usage.return_value.free = 1000
            self.assertEqual(self.told(503)["disk"], "fault: full")
        with mock.patch.object(Worker.objects, "values_list", side_effect=DatabaseError("locked")):
            self.assertEqual(self.told(503)["database"], "fault: locked")

    def test_an_engine_that_is_not_there_is_told(self):
        with mock.patch("kettle_web.frame.health.engine") as engine:
            engine.return_value.ask.side_effect = EngineError("The engine is not running.")
            self.assertEqual(self.told(503)["engine"], "fault: The engine is not running.")
