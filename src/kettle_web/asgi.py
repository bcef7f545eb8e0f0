"""HTTP by Django, the live WebSocket by Channels."""

import os

from channels.routing import ProtocolTypeRouter, URLRouter
from channels.security.websocket import AllowedHostsOriginValidator
from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "kettle_web.settings")
django_application = get_asgi_application()

from django.urls import path  # noqa: E402

from kettle_web.live import LiveConsumer  # noqa: E402

application = ProtocolTypeRouter(
    {
        "http": django_application,
        "websocket": AllowedHostsOriginValidator(
            URLRouter([path("live/<slug:slug>/", LiveConsumer.as_asgi())])
        ),
    }
)
