"""A flood at the door while a take is recorded: large bodies, odd messages, odd requests."""

import contextlib
import http.client
import random
import socket
import time
from collections import Counter
from pathlib import Path

from websockets.exceptions import WebSocketException
from websockets.sync.client import connect
from websockets.typing import Origin

from kettle_bench.record import drops_after
from kettle_cli.usage import rss_bytes
from kettle_engine.client import EngineClient
from kettle_media.rig_document import rig_to_dict
from kettle_media.take.folder import TakeFolder
from kettle_studio.demo import demo_rig

POSTED_BYTES, BODY_BYTES, PIECE = 10**9, 100 << 20, b"x" * (1 << 16)
MESSAGES, REQUESTS = 10_000, 2_000
MOST_GROWN_BYTES = 60_000_000
FOLDER = "in-the-flood"
ODD = (
    *("", "{", "[]", "null", "7", '{"do": 3}', '{"want": [["x"]]}', "\x00", "é" * 4000),
    *('{"picture": "' + "n" * 60_000 + '"}', '{"pictures": {"large": ["../../x"]}}'),
)
ADDRESSES = (
    *("/", "/rigs/demo/", "/takes/1/", "/takes/999999999999999999999/", "/jobs/", "/health/"),
    *("/rigs/demo/scenes/at/scene-1/", "/takes/1/program/%2e%2e%2f%2e%2e/", "/rigs/a%00b/"),
    *("/takes/1/fine/headset/", "/assembly/1/", "/static/../settings.py", "/nowhere/at/all"),
)
VALUES = ("a/b", "9" * 4400, "%27%22%3C%C3%A9", "-1", "1e999", "nan", "", "..%2f", "%00", "[]")
FIELDS = ("page", "from", "until", "show", "q", "trial", "range", "at", "revision", "seen")


def flood(data: Path, port: int, web: int, client: EngineClient) -> bool:
    """Flood the web; whether it stood: no 500, no more memory than allowed, the take untouched."""
    client.ask("record", rig=rig_to_dict(demo_rig()), folder=FOLDER, countdown_s=0)
    before = rss_bytes(web)
    posted, answers = post_bodies(port)
    print(f"{posted / 1e9:.2f} GB posted, answers {dict(answers)}", flush=True)
    ended = send_messages(port)
    print(f"{MESSAGES} odd messages, {ended} ended their connection", flush=True)
    found = ask_oddly(port)
    print(f"{REQUESTS} odd requests, answers {dict(found)}", flush=True)
    grown = rss_bytes(web) - before
    client.ask("stop")
    while not client.ask("status")["last_take"]:
        time.sleep(0.1)
    take = TakeFolder(data / "takes" / FOLDER)
    state, dropped = take.read_info().state, drops_after(take, 1.0)
    print(f"web grew by {grown / 1e6:.1f} MB; the take is {state}, dropped {dropped}")
    wrong = [status for status in (*answers, *found) if status >= 500]
    return not wrong and grown <= MOST_GROWN_BYTES and state == "complete"


def post_bodies(port: int) -> tuple[int, Counter[int]]:
    """Bodies of 100 MB, with and without a length, where nobody wants them, until 1 GB is sent."""
    sent, answers, count = 0, Counter[int](), 0
    while sent < POSTED_BYTES:
        count += 1
        chunked = count % 2 == 0
        how = "Transfer-Encoding: chunked" if chunked else f"Content-Length: {BODY_BYTES}"
        with socket.create_connection(("127.0.0.1", port), timeout=20) as line:
            head = f"POST /nowhere/{count} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\n{how}\r\n\r\n"
            line.sendall(head.encode())
            # It may be closed at any moment.
            with contextlib.suppress(OSError):
                for _ in range(BODY_BYTES // len(PIECE)):
                    line.sendall(b"10000\r\n" + PIECE + b"\r\n" if chunked else PIECE)
                    sent += len(PIECE)
            with contextlib.suppress(OSError):
                said = line.recv(64).split()
                answers[int(said[1]) if len(said) > 1 else 0] += 1
    return sent, answers


def send_messages(port: int) -> int:
    """Odd messages of pages; how many ended their connection."""
    ended, left = 0, MESSAGES
    address, origin = f"ws://127.0.0.1:{port}/live/demo/", Origin(f"http://127.0.0.1:{port}")
    while left:
        try:
            with connect(address, origin=origin, max_size=None) as page:
                while left:
                    page.send(random.choice(ODD))  # noqa: S311
                    left -= 1
        except (WebSocketException, OSError):
            ended += 1
    return ended


def ask_oddly(port: int) -> Counter[int]:
    """Requests with odd values in query, form and headers; how often each status came."""
    found = Counter[int]()
    for _ in range(REQUESTS):
        address, method = random.choice(ADDRESSES), random.choice(("GET", "POST"))  # noqa: S311
        odd = "&".join(f"{random.choice(FIELDS)}={random.choice(VALUES)}" for _ in range(2))  # noqa: S311
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        kind = {"Content-Type": "application/x-www-form-urlencoded"}
        headers = {"Range": f"bytes={random.choice(VALUES)}-", **kind}  # noqa: S311
        body = odd if method == "POST" else None
        try:
            connection.request(method, f"{address}?{odd}", body, headers)
            found[connection.getresponse().status] += 1
        except (OSError, http.client.HTTPException):
            found[0] += 1
        finally:
            connection.close()
    return found
