from django.urls import path

from kettle_web.takes.news import TakeNews
from kettle_web.takes.playing import TakeConsumer

urlpatterns = [
    path("live/takes/<int:pk>/", TakeConsumer.as_asgi()),
    path("live/takes/<int:pk>/news/", TakeNews.as_asgi()),
]
