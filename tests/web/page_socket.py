"""A page's WebSocket, without a server."""

import json

from asgiref.testing import ApplicationCommunicator

from kettle_web.asgi import application

HEADERS = [(b"origin", b"http://127.0.0.1"), (b"host", b"127.0.0.1")]


class PageSocket(ApplicationCommunicator):
    """Connects to an address; `receive_output` gives what the page is sent."""

    def __init__(self, address):
        path, _, query = address.partition("?")
        scope = {"type": "websocket", "path": path, "query_string": query.encode()}
        super().__init__(application, {**scope, "headers": HEADERS, "subprotocols": []})

    async def connect(self):
        """Whether it was let in."""
        await self.send_input({"type": "websocket.connect"})
        return (await self.receive_output(20))["type"] == "websocket.accept"

    async def send(self, text):
        """What the page says."""
        await self.send_input({"type": "websocket.receive", "text": text})

    async def send_json(self, values):
        """The same as JSON."""
        await self.send(json.dumps(values))

    async def disconnect(self):
        """The page is left."""
        await self.send_input({"type": "websocket.disconnect", "code": 1000})
        await self.wait(20)
