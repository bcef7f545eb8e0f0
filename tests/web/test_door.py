"""What comes from outside: other hosts, other pages, endless bodies, odd messages, odd values."""

import asyncio
import re
from unittest import mock

from asgiref.testing import ApplicationCommunicator
from django.core.management import call_command
from django.test import Client, SimpleTestCase, TestCase
from django.urls import get_resolver, reverse
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase as PropertyCase

from kettle_web.frame.door import FORM_BYTES, Door
from kettle_web.rigs.services import make_demo_rig
from tests.web.test_inputs import FakeEngine

OURS = (b"host", b"testserver")


async def takes_all(_scope, receive, send):
    """Reads the whole body as Django does, then says how long it was."""
    size, more = 0, True
    while more:
        message = await receive()
        if message["type"] == "http.disconnect":
            return
        size += len(message.get("body", b""))
        more = message.get("more_body", False)
    await send({"type": "http.response.start", "status": 200, "headers": []})
    await send({"type": "http.response.body", "body": str(size).encode()})


class TheDoor(SimpleTestCase):
    def ask(self, *headers, path="/", bodies=(b"",)):
        """The status of an answer, and how many parts of the body were taken."""

        async def run():
            scope = {"type": "http", "path": path, "method": "POST", "headers": list(headers)}
            asked = ApplicationCommunicator(Door(takes_all), scope)
            for number, body in enumerate(bodies, 1):
                more = number < len(bodies)
                message = {"type": "http.request", "body": body, "more_body": more}
                await asked.send_input(message)
            start = await asked.receive_output(5)
            left = asked.input_queue.qsize()
            await asked.receive_output(5)
            asked.stop(exceptions=False)
            return start["status"], len(bodies) - left

        return asyncio.run(run())

    def test_another_hosts_name_is_refused_before_the_body(self):
        for host in (b"elsewhere.example", b"", b"127.0.0.1.evil.example", b"a b"):
            self.assertEqual(self.ask((b"host", host), bodies=[b"x"] * 3), (400, 0))
        self.assertEqual(self.ask(OURS), (200, 1))

    def test_what_is_too_long_is_refused_before_it_is_read_or_where_it_gets_so(self):
        for length in (b"300000000", b"-1", b"1e9", b"9" * 40, b"1, 2"):
            told = self.ask(OURS, (b"content-length", length), bodies=[b"x"] * 3)
            self.assertEqual(told, (413, 0))
        endless = [b"x" * (FORM_BYTES // 4)] * 100
        for path in ("/", "/not/there/", "/rigs/demo/crosspoint/"):
            self.assertEqual(self.ask(OURS, path=path, bodies=endless), (413, 5))
        add = "/rigs/demo/inputs/add/"
        self.assertEqual(self.ask(OURS, path=add, bodies=endless), (200, 100))
        self.assertEqual(self.ask(OURS, (b"content-length", b"500000000"), path=add)[0], 413)

    def connects(self, **headers):
        async def app(_scope, receive, send):
            await receive()
            await send({"type": "websocket.accept"})

        async def run():
            pairs = [(k.encode(), v.encode()) for k, v in headers.items()]
            scope = {"type": "websocket", "path": "/live/demo/", "headers": pairs}
            asked = ApplicationCommunicator(Door(app), scope)
            await asked.send_input({"type": "websocket.connect"})
            return (await asked.receive_output(5))["type"] == "websocket.accept"

        return asyncio.run(run())

    def test_pages_of_other_origins_get_no_live_pictures(self):
        host = "testserver:8470"
        self.assertTrue(self.connects(host=host, origin="http://testserver:8470"))
        for origin in ("http://testserver:9999", "https://testserver:8470", "http://testserver",
                       "http://elsewhere.example:8470", "null", "file://"):  # fmt: skip
            self.assertFalse(self.connects(host=host, origin=origin), origin)
        self.assertFalse(self.connects(host=host))
        self.assertFalse(self.connects(host="elsewhere.example", origin="http://elsewhere.example"))


class Pages(TestCase):
    def test_deployment_is_checked_but_for_tls(self):
        call_command("check", deploy=True, fail_level="WARNING")

    def test_an_old_form_is_answered_by_a_page_of_ours(self):
        client = Client(enforce_csrf_checks=True)
        page = client.post(reverse("new-rig"), {"name": "x"})
        self.assertContains(page, "reload that page and do it again", status_code=403)

    def test_cookies_have_names_of_our_own(self):
        make_demo_rig()
        self.client.get("/rigs/demo/")
        self.client.post("/rigs/demo/delete/")
        self.assertEqual(set(self.client.cookies), {"vast_kettle_form", "vast_kettle_messages"})


def patterns(resolver, prefix=""):
    for part in resolver.url_patterns:
        if hasattr(part, "url_patterns"):
            yield from patterns(part, prefix + str(part.pattern))
        else:
            yield prefix + str(part.pattern)


ADDRESSES = sorted(set(patterns(get_resolver())))
ROUND = ["", "a/b", "..", "é'\"<>&", "-1", "1e999", "nan", "9" * 4400, "[]", "{}", "null", "on"]
MEANT = [
    "picture",
    "track",
    "own",
    "size",
    "program",
    "files",
    "purpose",
    "1280x720",
    "headset",
    "webcam-1",
    "scene-1",
    "demo",
    "headset recorded on",
    "place",
    "align left",
]
KNOWN = {"slug": "demo", "input_id": "headset", "scene_id": "scene-1", "which": "raw",
         "digest": "a" * 64, "pk": "1", "number": "1",
         "kind": "program", "name": "program"}  # fmt: skip
ODD = st.one_of(
    st.sampled_from([*ROUND, *MEANT, "\x00", "%00", "mask_file"]),
    st.text(max_size=30),
    st.integers().map(str),
    st.floats().map(str),
)
FIELDS = st.sampled_from(
    ["part", "name", "input", "what", "scene", "layer", "left", "top", "width", "height", "turn",
     "cross", "seen", "untouched", "placements", "place", "move", "to", "key", "kind", "length_ms",
     "gain_db", "track", "preset", "page", "x", "y", "seconds", "countdown_s", "frame_width", "fps",
     "sample", "digest", "device", "on", "again", "want", "section", "here", "copy", "layout",
     "control", "crf", "kbps", "scale", "row", "own", "size", "pattern", "root", "purpose",
     "number", "minutes", "size_mb", "line_mbps", "trial"]
)  # fmt: skip


class Fuzz(PropertyCase):
    """Whatever is asked: an answer, and never one that says we made a mistake."""

    def setUp(self):
        self.rig = make_demo_rig()
        patch = mock.patch("kettle_web.frame.engine.EngineClient", lambda _data: FakeEngine())
        self.enterContext(patch)

    @settings(max_examples=300)
    @given(
        st.sampled_from(ADDRESSES),
        st.data(),
        st.dictionaries(FIELDS, ODD, max_size=6),
        st.sampled_from(["get", "post"]),
    )
    def test_every_address_answers_whatever_comes(self, address, data, fields, how):
        def value(match):
            name = match.group(2)
            odd = data.draw(st.booleans()) and match.group(1) != "int"
            text = data.draw(ODD) if odd else KNOWN[name]
            return re.sub(r"[^-\w]", "_", text, flags=re.ASCII)[:200] or "x"

        path = "/" + re.sub(r"<(\w+):(\w+)>", value, address)
        span = re.sub(r"[^ -~]", "", f"bytes={data.draw(ODD)}-{data.draw(ODD)}")
        headers = {"Range": span, "Kettle-Seen": re.sub(r"[^ -~]", "", data.draw(ODD))}
        answer = getattr(self.client, how)(path, fields, headers=headers)
        if answer.streaming:
            b"".join(answer.streaming_content)
        self.assertLess(answer.status_code, 504)
        self.assertNotEqual(answer.status_code, 500)
