from django.urls import path

from kettle_web.assembly.live import AssemblyConsumer, AssemblyNews

urlpatterns = [
    path("live/assembly/<int:pk>/", AssemblyConsumer.as_asgi()),
    path("live/assembly/<int:pk>/news/", AssemblyNews.as_asgi()),
]
