from django.urls import path

from kettle_web.live.consumer import LiveConsumer

urlpatterns = [path("live/<slug:slug>/", LiveConsumer.as_asgi())]
