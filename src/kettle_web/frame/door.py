"""What comes from outside, before Django sees it: who may ask, from where, and how much may come.

A body is refused before it is read where its length is told, and while it comes where it is not.
"""

import re
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any
from urllib.parse import urlsplit

from django.conf import settings
from django.http.request import split_domain_port, validate_host
from django.template.loader import render_to_string
from django.urls import Resolver404, resolve

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

MEGABYTE = 1_000_000
# A form of ours has some KB; the places of 64 layers and a text card are the longest.
FORM_BYTES = MEGABYTE
TOO_LONG = "What was sent is longer than anything that belongs here, so it was not read."
SAFE = ("GET", "HEAD", "OPTIONS")
OURS_ALONE = (b"cross-origin-resource-policy", b"same-origin")
OTHER_PAGE = "This was sent by a page that is not Vast Kettle's own, so it was not read."
ELSEWHERE = "Vast Kettle is asked for by another name than its own, so it does not answer."


def takes_up_to(size_bytes: int, sentence: str) -> Callable[[Any], Any]:
    """Mark a view that takes files: so much may be sent to it, and what is said of more."""

    def marked(view: Any) -> Any:
        view.takes_up_to = size_bytes, sentence
        return view

    return marked


class Door:
    """The application behind checks of Host, Origin and length."""

    def __init__(self, app: App) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Let in what may come in."""
        if scope["type"] == "http":
            await self._http(scope, receive, send)
        elif scope["type"] == "websocket":
            await self._websocket(scope, receive, send)
        else:
            await self._app(scope, receive, send)

    async def _http(self, scope: Scope, receive: Receive, send: Send) -> None:
        headers = _headers(scope)
        if not _is_our_host(headers.get("host", "")):
            await _refuse(send, 400, ELSEWHERE)
            return
        if scope["method"] not in SAFE and not _is_of_ours(scope, headers):
            await _refuse(send, 403, OTHER_PAGE)
            return
        most, sentence = _limit(scope["path"])
        length = headers.get("content-length", "0")
        if not re.fullmatch(r"[0-9]{1,15}", length) or int(length) > most:
            await _refuse(send, 413, sentence)
            return
        counted = _Counted(receive, send, most)
        await self._app(scope, counted.receive, counted.send)
        if counted.is_over and not counted.answered:
            await _refuse(send, 413, sentence)

    async def _websocket(self, scope: Scope, receive: Receive, send: Send) -> None:
        headers = _headers(scope)
        is_ours = _is_our_host(headers.get("host", "")) and _is_our_origin(scope, headers)
        if not is_ours:
            await receive()
            await send({"type": "websocket.close", "code": 4403})
            return
        await self._app(scope, receive, send)


class _Counted:
    """A body that is cut off where it gets too long, and whether an answer was begun."""

    def __init__(self, receive: Receive, send: Send, most: int) -> None:
        self._receive, self._send, self._left = receive, send, most
        self.is_over = self.answered = False

    async def receive(self) -> Message:
        """The next part, or an end where it has become too long."""
        if self.is_over:
            return {"type": "http.disconnect"}
        message = await self._receive()
        self._left -= len(message.get("body", b""))
        self.is_over = self._left < 0
        return {"type": "http.disconnect"} if self.is_over else message

    async def send(self, message: Message) -> None:
        """Pass an answer on; pages of others may not take it in."""
        self.answered = True
        if message["type"] == "http.response.start":
            message = {**message, "headers": [*message.get("headers", ()), OURS_ALONE]}
        await self._send(message)


def _headers(scope: Scope) -> dict[str, str]:
    return {name.decode("latin-1").lower(): v.decode("latin-1") for name, v in scope["headers"]}


def _is_our_host(host: str) -> bool:
    domain, _ = split_domain_port(host)
    return bool(domain) and validate_host(domain, settings.ALLOWED_HOSTS)


def _is_our_origin(scope: Scope, headers: dict[str, str]) -> bool:
    """Whether the page that asks is one of ours; who tells of none is not."""
    origin = urlsplit(headers.get("origin", ""))
    scheme = "https" if scope.get("scheme") in ("https", "wss") else "http"
    return (origin.scheme, origin.netloc) == (scheme, headers.get("host", ""))


def _is_of_ours(scope: Scope, headers: dict[str, str]) -> bool:
    """Whether a form may be ours: browsers tell from which page one is sent.

    What tells of none is left to the token that our forms carry.
    """
    if headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none"):
        return False
    return "origin" not in headers or _is_our_origin(scope, headers)


def _limit(path: str) -> tuple[int, str]:
    """How many bytes a view takes; a form's worth where it says nothing or there is none."""
    try:
        view = resolve(path).func
    except Resolver404:
        return FORM_BYTES, TOO_LONG
    found: tuple[int, str] = getattr(view, "takes_up_to", (FORM_BYTES, TOO_LONG))
    return found


async def _refuse(send: Send, status: int, sentence: str) -> None:
    """Answer at once and end the connection: what still comes of the body is not read."""
    body = render_to_string("frame/refused.html", {"sentence": sentence}).encode()
    headers = [
        (b"content-type", b"text/html; charset=utf-8"),
        (b"content-length", str(len(body)).encode()),
        (b"connection", b"close"),
        OURS_ALONE,
    ]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
