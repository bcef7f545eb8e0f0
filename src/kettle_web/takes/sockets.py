from django.urls import path

from kettle_web.takes.playing import PlayConsumer

urlpatterns = [path("live/takes/<int:pk>/", PlayConsumer.as_asgi())]
