"""HTTP by Django, the live WebSocket by Channels."""

import os

from channels.routing import ProtocolTypeRouter, URLRouter
from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "kettle_web.settings")
django_application = get_asgi_application()

from kettle_web.assembly.sockets import urlpatterns as assemblies  # noqa: E402
from kettle_web.frame.door import Door  # noqa: E402
from kettle_web.live.urls import urlpatterns as live  # noqa: E402
from kettle_web.takes.sockets import urlpatterns as players  # noqa: E402

application = Door(
    ProtocolTypeRouter(
        {
            "http": django_application,
            "websocket": URLRouter([*live, *players, *assemblies]),
        }
    )
)
