"""What stands still holds up nothing else: an engine that hangs, a data base that is away."""

import asyncio
import json
import os
import tempfile
import threading
from pathlib import Path
from unittest import mock

from asgiref.sync import async_to_sync
from django.db import OperationalError
from django.test import RequestFactory, SimpleTestCase, TransactionTestCase
from django.utils import timezone

from kettle_web.frame.file_answers import CHUNK_BYTES, file_answer
from kettle_web.frame.local_zone import local_zone
from kettle_web.models import Take, Tutorial
from kettle_web.rigs.services import make_demo_rig
from kettle_web.takes.news import TakeNews
from tests.web.page_socket import PageSocket

PAGES = 12


class StandingStill(TransactionTestCase):
    def test_an_engine_that_hangs_holds_up_no_file(self):
        make_demo_rig()
        let_go, hanging = threading.Event(), threading.Semaphore(0)

        def hang(*_):
            hanging.release()
            let_go.wait(60)

        async def read(path):
            pages = [PageSocket("/live/demo/?want=levels") for _ in range(PAGES)]
            for page in pages:
                await page.connect()
            while not hanging.acquire(blocking=False):
                await asyncio.sleep(0.01)
            # As many more as there are threads that anything else could wait in.
            await asyncio.sleep(0.2)
            try:
                answer = file_answer(RequestFactory().get("/"), path)
                return [part async for part in answer.streaming_content]
            finally:
                let_go.set()
                for page in pages:
                    await page.disconnect()

        with (
            tempfile.NamedTemporaryFile() as file,
            mock.patch("kettle_web.live.consumer._open_rig", hang),
            mock.patch("channels.db.close_old_connections"),
        ):
            file.write(os.urandom(CHUNK_BYTES + 1))
            file.flush()
            read_in_time = async_to_sync(lambda: asyncio.wait_for(read(Path(file.name)), 30))
            self.assertEqual([len(part) for part in read_in_time()], [CHUNK_BYTES, 1])

    def test_news_go_on_after_the_data_base_was_away(self):
        of = {"tutorial": Tutorial.objects.create(), "recorded_at": timezone.now()}
        take = Take.objects.create(folder="t", name="T", **of)
        newest = mock.Mock(side_effect=[(1, 0), OperationalError("locked"), (1, 0), (1, 7), None])

        async def told():
            socket = PageSocket(f"/live/takes/{take.pk}/news/")
            await socket.connect()
            found = [json.loads((await socket.receive_output(20))["text"]) for _ in range(2)]
            await socket.disconnect()
            return [message["kind"] for message in found]

        with (
            mock.patch.object(TakeNews, "newest", newest),
            mock.patch("channels.db.close_old_connections"),
            self.assertLogs("kettle.live", "WARNING"),
        ):
            self.assertEqual(async_to_sync(told)(), ["changed", "again"])


class LocalZone(SimpleTestCase):
    def test_it_is_the_machines(self):
        link = Path(tempfile.mkdtemp()) / "localtime"
        link.symlink_to("/usr/share/zoneinfo/Asia/Kolkata")
        for named, expected in (
            ("", "Asia/Kolkata"),
            (":America/Lima", "America/Lima"),
            ("nowhere/at-all", "Asia/Kolkata"),
            ("../../etc/passwd", "Asia/Kolkata"),
        ):
            with mock.patch.dict(os.environ, {"TZ": named}):
                self.assertEqual(local_zone(link), expected)
        with mock.patch.dict(os.environ, {"TZ": ""}):
            self.assertEqual(local_zone(link.with_name("none")), "UTC")
