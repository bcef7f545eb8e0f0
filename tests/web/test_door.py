"""What comes from outside: other hosts, other pages, endless bodies, odd messages, odd values."""

import asyncio
import re
import shutil
import tempfile
from pathlib import Path
from unittest import mock

from asgiref.testing import ApplicationCommunicator
from django.conf import settings
from django.core.management import call_command
from django.db import connection
from django.test import Client, SimpleTestCase, TestCase, override_settings
from django.urls import get_resolver, reverse
from django.utils import timezone
from hypothesis import given
from hypothesis import settings as tried
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase as PropertyCase

import kettle_web
from kettle_core.assembly.export import Export as Order
from kettle_media.assembly.export_document import export_to_dict
from kettle_web.frame.door import FORM_BYTES, Door
from kettle_web.models import Export, Folder, Job, Still, Take, Tutorial, Version
from kettle_web.rigs.services import make_demo_rig
from kettle_web.takes.players import PlayerLine
from kettle_web.takes.reading import read_take_from_disk
from tests.fixtures import demo_take
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

    def test_a_form_of_another_page_is_refused_before_the_body(self):
        host, long = (b"host", b"testserver:8470"), [b"x" * 1000] * 3
        for told in (
            (b"origin", b"http://elsewhere.example"),
            (b"origin", b"http://testserver:9999"),
            (b"origin", b"null"),
            (b"sec-fetch-site", b"cross-site"),
            (b"sec-fetch-site", b"same-site"),
        ):
            add = "/rigs/demo/inputs/add/"
            self.assertEqual(self.ask(host, told, path=add, bodies=long), (403, 0), told)
        ours = (b"origin", b"http://testserver:8470"), (b"sec-fetch-site", b"same-origin")
        self.assertEqual(self.ask(host, *ours, bodies=long), (200, 3))

    def test_no_page_of_others_takes_an_answer_in(self):
        async def run():
            scope = {"type": "http", "path": "/", "method": "GET", "headers": [OURS]}
            asked = ApplicationCommunicator(Door(takes_all), scope)
            await asked.send_input({"type": "http.request"})
            return (await asked.receive_output(5))["headers"]

        self.assertIn((b"cross-origin-resource-policy", b"same-origin"), asyncio.run(run()))

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


def all_fields():
    """The name of every field and button: of forms, and of what pages send besides."""
    names = set()
    for path in Path(kettle_web.__file__).parent.rglob("*"):
        if path.suffix == ".html":
            names |= set(re.findall(r'name="([\w-]+)"', path.read_text()))
        elif path.name in ("forms.py", "views.py", "changes.py"):
            names |= set(
                re.findall(r"^    (\w+) = forms\.\w+Field", path.read_text(), re.MULTILINE)
            )
            names |= set(re.findall(r'(?:fields\[|\.get\()"([\w-]+)"', path.read_text()))
    return sorted(names)


ADDRESSES = sorted(set(patterns(get_resolver())))
ROUND = ["", "a/b", "..", "é'\"<>&", "-1", "1e999", "nan", "9" * 5000, "[]", "{}", "null", "on",
         str(10**30)]  # fmt: skip
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
    "1",
    "7",
    "take:1",
    "step-1",
]
KNOWN = {"slug": "demo", "input_id": "headset", "scene_id": "scene-1", "which": "raw",
         "digest": "a" * 64, "pk": "1", "number": "1", "track": "headset",
         "kind": "program", "name": "program"}  # fmt: skip
ODD = st.one_of(
    st.sampled_from([*ROUND, *MEANT, "\x00", "%00", "mask_file"]),
    st.text(max_size=30),
    st.integers().map(str),
    st.floats().map(str),
)
FIELDS = st.sampled_from(all_fields())


class Rows(PropertyCase):
    """A row of every kind, each the first, with a take that can be read."""

    @classmethod
    def setUpTestData(cls):
        takes = Path(tempfile.mkdtemp(prefix="kettle-door-"))
        cls.addClassCleanup(shutil.rmtree, takes, ignore_errors=True)
        cls.enterClassContext(override_settings(TAKES=takes))
        cls.enterClassContext(
            mock.patch("kettle_web.frame.engine.EngineClient", lambda _data: FakeEngine())
        )
        (takes / "one").symlink_to(demo_take().path)
        rig, tutorial = make_demo_rig(), Tutorial.objects.create(pk=1, name="Sewing")
        of = {"tutorial": tutorial, "rig": rig, "recorded_at": timezone.now()}
        read_take_from_disk(take=Take.objects.create(pk=1, folder="one", name="One", **of))
        version = tutorial.versions.get(pk=1)
        Folder.objects.create(pk=1, name="Spring")
        Export.objects.create(pk=1, version=version, file="a.mp4", order=export_to_dict(Order()))
        Still.objects.create(pk=1, rig=rig, digest="a" * 64, name="A", width=8, height=8)
        assert set(Job.objects.values_list("pk", flat=True)) == {1, 2}

    def path(self, address, value=lambda name: KNOWN[name]):
        return "/" + re.sub(r"<\w+:(\w+)>", lambda match: value(match.group(1)), address)


class Looking(Rows):
    def test_what_is_looked_at_writes_nothing_and_starts_nothing(self):
        # A browser fetches pages before anybody wants them.
        def refuse(execute, sql, *more):
            if not sql.lstrip().upper().startswith(("SELECT", "SAVEPOINT", "RELEASE", "ROLLBACK")):
                raise AssertionError(sql)
            return execute(sql, *more)

        found = 0
        with connection.execute_wrapper(refuse), mock.patch.object(
            PlayerLine.nest, "warm_up", side_effect=AssertionError
        ):  # fmt: skip
            for address in ADDRESSES:
                answer = self.client.get(self.path(address))
                found += answer.status_code in (200, 302)
        self.assertGreater(found, 25)


class Vanished(Rows):
    def test_a_folder_that_is_gone_while_pages_are_open_is_said(self):
        (settings.TAKES / "one").unlink()
        Export.objects.update(result={"size_bytes": 5})
        for address in ADDRESSES:
            for ask in (self.client.get, self.client.post):
                self.assertNotEqual(ask(self.path(address)).status_code, 500, address)
        Export.with_deleted.update(deleted_at=None)
        Version.with_deleted.update(deleted_at=None)
        page = self.client.get(reverse("export", args=[1]))
        self.assertContains(page, "The file is not there any more")


class Fuzz(Rows):
    """Whatever is asked: an answer, and never one that says we made a mistake."""

    @tried(max_examples=300)
    @given(
        st.sampled_from(ADDRESSES),
        st.data(),
        st.dictionaries(FIELDS, ODD, max_size=6),
        st.sampled_from(["get", "post"]),
    )
    def test_every_address_answers_whatever_comes(self, address, data, fields, how):
        def value(name):
            odd = data.draw(st.booleans()) and name not in ("pk", "number")
            text = data.draw(ODD) if odd else KNOWN[name]
            return re.sub(r"[^-\w]", "_", text, flags=re.ASCII)[:200] or "x"

        path = self.path(address, value)
        span = re.sub(r"[^ -~]", "", f"bytes={data.draw(ODD)}-{data.draw(ODD)}")
        headers = {"Range": span, "Kettle-Seen": re.sub(r"[^ -~]", "", data.draw(ODD))}
        answer = getattr(self.client, how)(path, fields, headers=headers)
        if answer.streaming:
            b"".join(answer.streaming_content)
        self.assertLess(answer.status_code, 504)
        self.assertNotEqual(answer.status_code, 500)

    def test_numbers_that_no_row_has_are_none(self):
        for number in (0, 2**63, 10**30, "9" * 5000):
            for address in (a for a in ADDRESSES if "<int:" in a):
                path = self.path(address, lambda n: str(number) if n == "pk" else KNOWN[n])  # noqa: B023
                for ask in (self.client.get, self.client.post):
                    self.assertIn(ask(path).status_code, (302, 404, 405, 400), path)
