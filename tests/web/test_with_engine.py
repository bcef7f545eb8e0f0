"""Pages and the live WebSocket with a real engine behind them."""

import json
import os
import shutil
import time
from dataclasses import replace
from unittest import mock

from asgiref.sync import async_to_sync, sync_to_async
from django.conf import settings
from django.test import TransactionTestCase, override_settings, tag
from django.urls import reverse

from kettle_core.errors import EngineError
from kettle_core.rig.changes import with_input
from kettle_engine.protocol import IDLE, WATCHING
from kettle_web.frame.editing import edit
from kettle_web.frame.engine import engine
from kettle_web.live.consumer import Hub, LiveConsumer, _open_rig
from kettle_web.models import Take
from kettle_web.rigs.services import make_demo_rig
from kettle_web.takes.reading import look_after_takes
from tests.engine.process import EngineProcess
from tests.web.page_socket import PageSocket

JSON = {"accept": "application/json"}
AT_REST = (IDLE, WATCHING)


@tag("realtime")
class WithEngine(TransactionTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        data = settings.DATA / f"engine-{os.getpid()}"
        data.mkdir()
        cls.enterClassContext(override_settings(DATA=data, TAKES=data / "takes"))
        cls.enterClassContext(mock.patch.dict(os.environ, KETTLE_DEMO_PART="3"))
        cls.engine = EngineProcess(cls, data)

    def setUp(self):
        self.rig = make_demo_rig()
        self.addCleanup(shutil.rmtree, settings.TAKES, ignore_errors=True)
        self.addCleanup(self.engine.until, lambda: engine().ask("status")["state"] in AT_REST)

    def test_record_and_stop_by_pages_make_a_take(self):
        start, stop = reverse("record-start", args=["demo"]), reverse("record-stop", args=["demo"])
        answer = self.client.post(start, {"countdown_s": 0}, headers=JSON)
        take = Take.objects.get()
        self.assertEqual((answer.json(), take.state), ({"take": take.pk}, "recording"))
        self.engine.has_recorded(1)
        again = self.client.post(start, {"countdown_s": 0}, headers=JSON)
        self.assertEqual(again.status_code, 503)
        self.assertIn("being recorded already", again.json()["error"])
        page = self.client.get(take.get_absolute_url())
        self.assertContains(page, "This take is being recorded.")
        answer = self.client.post(stop, headers=JSON)
        self.assertEqual(answer.json(), {"take_url": take.get_absolute_url()})
        take.refresh_from_db()
        self.assertEqual((take.state, take.program_job.state), ("complete", "waiting"))
        self.assertGreater(take.duration_s, 1)
        self.assertGreater(take.size_bytes, 100_000)

    def test_a_take_that_the_engine_records_without_a_row_is_found_and_shown(self):
        engine().ask("record", rig=self.rig.document, folder="alone", countdown_s=0)
        self.engine.has_recorded(0.5)
        look_after_takes()
        take = Take.objects.get()
        self.assertEqual((take.folder, take.state), ("alone", "recording"))
        engine().ask("stop")
        self.engine.until(lambda: engine().ask("status")["state"] == "watching")
        look_after_takes()
        take.refresh_from_db()
        self.assertEqual(take.state, "complete")

    def test_a_take_without_a_row_is_stopped_by_the_page_and_kept(self):
        engine().ask("record", rig=self.rig.document, folder="alone", countdown_s=0)
        self.engine.has_recorded(0.5)
        page = self.client.post(reverse("record-stop", args=["demo"]), follow=True)
        self.assertNotContains(page, "so nothing was recorded")
        self.assertEqual(Take.objects.get().state, "complete")

    def test_a_stop_in_the_countdown_forgets_the_take(self):
        self.client.post(reverse("record-start", args=["demo"]), {"countdown_s": 9})
        page = self.client.post(reverse("record-stop", args=["demo"]), follow=True)
        self.assertContains(page, "so nothing was recorded")
        self.assertFalse(Take.objects.exists())

    def test_a_rig_is_made_of_what_is_plugged_in(self):
        for slug in ("attic-desk", "attic-desk-2"):
            page = self.client.post(reverse("new-rig"), {"name": "Attic desk"}, follow=True)
            self.assertEqual(page.redirect_chain[-1][0], f"/rigs/{slug}/")
            self.assertContains(page, "System audio")

    def receive(self, want, until, more=None, look=None):
        """Messages of a page's WebSocket by kind, until something holds."""

        async def listen():
            socket = PageSocket(f"/live/demo/?want={want}")
            self.assertTrue(await socket.connect())
            if look:
                await socket.send_json({"look": look})
            seen, deadline = {}, time.monotonic() + 60
            while not until(seen):
                if time.monotonic() > deadline:
                    self.fail(f"{seen.get('status')}, {sorted(seen)}; {self.engine.state()}")
                message = await socket.receive_output(60)
                if "bytes" in message:
                    name, _, jpeg = message["bytes"].partition(b"\0")
                    seen[name.decode()] = jpeg
                else:
                    values = json.loads(message["text"])
                    seen[values["kind"]] = values["values"]
                if more:
                    await sync_to_async(more)(seen)
            await socket.disconnect()
            return seen

        # A hub belongs to one event loop, and every call here has its own.
        with mock.patch.object(LiveConsumer, "hub", Hub()):
            return async_to_sync(listen)()

    def test_one_socket_brings_status_levels_and_pictures(self):
        wanted = {"status", "levels", "display-1", "webcam-1"}
        look = {"small": ["display-1"], "large": ["webcam-1"], "huge": ["tablet"]}
        seen = self.receive("levels", lambda seen: wanted <= seen.keys(), look=look)
        self.assertNotIn("tablet", seen)
        self.assertNotIn("program", seen)
        self.assertEqual(seen["webcam-1"][:2], b"\xff\xd8")
        self.assertEqual(seen["levels"].keys(), {"headset", "system"})
        level = seen["levels"]["system"]
        self.assertLessEqual(level["peak_dbfs"], 0)
        self.assertTrue(0 <= level["peak_at"] <= level["held_at"] <= 1)
        self.assertGreater(seen["status"]["disk_free_bytes"], 0)
        program = self.receive("program", lambda seen: "program" in seen)
        self.assertNotIn("levels", program)

    def test_odd_messages_end_their_own_connection_and_nothing_else(self):
        looks = [3, {"small": [[]]}, {"small": 7}, {"small": ["x" * 200_000]}, {"hear": [""]},
                 {"after": ["\n"]}]  # fmt: skip
        odd = ["{", "[]", "5", "[" * 50_000, '{"try": {}}x']
        odd += [json.dumps({"look": look}) for look in looks]

        async def closes(text):
            socket = PageSocket("/live/demo/")
            await socket.connect()
            await socket.send(text)
            while (await socket.receive_output(20))["type"] != "websocket.close":
                pass
            await socket.disconnect()

        async def listen():
            for text in odd:
                await closes(text)

        with mock.patch.object(LiveConsumer, "hub", Hub()):
            async_to_sync(listen)()
        self.receive("levels", lambda seen: "levels" in seen)

    def test_a_fault_of_ours_ends_the_connection_instead_of_freezing_the_page(self):
        async def closes():
            socket = PageSocket("/live/demo/?want=levels")
            await socket.connect()
            while (message := await socket.receive_output(20))["type"] != "websocket.close":
                pass
            await socket.disconnect()
            return message["code"]

        for broken in ("_newest_change", "_open_rig"):
            hub = mock.patch.object(LiveConsumer, "hub", Hub())
            fault = mock.patch(f"kettle_web.live.consumer.{broken}", side_effect=LookupError("odd"))
            with hub, fault, self.assertLogs("kettle.live", "ERROR"):
                self.assertEqual(async_to_sync(closes)(), 1011)

        async def hub_fails():
            hub = Hub()
            with mock.patch.object(LiveConsumer, "hub", hub), mock.patch(
                "kettle_web.live.consumer.json.loads", side_effect=[ValueError("odd")] * 9
            ):  # fmt: skip
                return await closes()

        with self.assertLogs("kettle.live", "ERROR"):
            self.assertEqual(async_to_sync(hub_fails)(), 1011)

    def test_a_page_says_when_another_rig_was_opened(self):
        seen = self.opened_beside(lambda seen: "message" in seen["status"])
        self.assertIn("“Other rig” was opened on another page", seen["status"]["message"])

    def test_a_page_whose_engine_answered_too_late_takes_nothing_back(self):
        orders = []

        def open_rig(*values):
            _open_rig(*values)
            orders.append(values)
            if len(orders) == 1:
                raise EngineError("The engine did not answer in time.")

        with mock.patch("kettle_web.live.consumer._open_rig", open_rig):
            self.opened_beside(lambda _: len(orders) > 1)
        self.assertEqual(engine().ask("status")["rig"], "other")

    def opened_beside(self, until):
        """What a page of the demo's rig is told once another page has opened another one."""
        other = {**self.rig.document, "name": "Other rig"}

        def open_other(seen):
            # Once this page has opened its own: it may do that whenever it comes.
            if seen.get("status", {}).get("rig") == "demo" and "opened" not in seen:
                seen["opened"] = True
                engine().ask("open_rig", rig=other, owner="other")

        engine().ask("open_rig", rig=other, owner="other")
        return self.receive(
            "levels", lambda seen: "opened" in seen and until(seen), more=open_other
        )

    def test_a_page_that_hears_nothing_for_a_moment_leaves_another_pages_rig_alone(self):
        other, rigs = {**self.rig.document, "name": "Other rig"}, []

        def open_other(seen):
            if seen.get("status", {}).get("rig") == "demo" and "opened" not in seen:
                seen["opened"] = True
                engine().ask("open_rig", rig=other, owner="other")
            elif "opened" in seen:
                rigs.append(engine().ask("status").get("rig"))

        engine().ask("open_rig", rig=other, owner="other")
        # As on a machine that stands still again and again: it is always too long ago.
        with mock.patch("kettle_web.live.consumer.SILENT_AFTER_S", -1.0):
            self.receive("levels", lambda _: len(rigs) > 30, more=open_other)
        self.assertEqual(set(rigs), {"other"})

    def test_a_rig_changed_during_a_take_disturbs_neither_take_nor_page(self):
        self.changed_in_a_take()

    def test_nor_where_the_page_hears_nothing_for_a_moment(self):
        with mock.patch("kettle_web.live.consumer.SILENT_AFTER_S", -1.0):
            self.changed_in_a_take()

    def changed_in_a_take(self):
        states = []

        def change(seen):
            if "status" in seen:
                states.append(seen["status"]["state"])
            if states.count("recording") == 1:
                named = replace(self.rig.values.inputs[0], name="Renamed")
                edit(self.rig, lambda values: (with_input(values, named), "named"))
            if states.count("recording") == 8 and "stopped" not in seen:
                seen["stopped"] = engine().ask("stop")

        engine().ask("record", rig=self.rig.document, folder="t", countdown_s=0)
        self.receive(
            "status", lambda seen: states[-1:] == ["watching"] and "stopped" in seen, more=change
        )
        self.assertNotIn("failed", states)
        self.assertGreaterEqual(states.count("recording"), 8)

    def test_a_killed_engine_is_told_and_taken_up_again(self):
        def restart(seen):
            if "levels" in seen and self.engine.process.poll() is None and "told" not in seen:
                self.engine.process.kill()
                self.engine.process.wait()
                seen["told"] = True
            gone = self.engine.process.poll() is not None
            if gone and seen.get("status", {}).get("state") == "absent":
                self.engine.start()
                seen["message"] = seen["status"]["message"]
                seen.pop("levels", None)

        seen = self.receive(
            "levels", lambda seen: "message" in seen and "levels" in seen, more=restart
        )
        self.assertIn("not running", seen["message"])
