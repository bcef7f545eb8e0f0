from django.urls import path

from kettle_web.format import views

urlpatterns = [
    path("", views.page, name="format"),
    path("save/", views.save, name="save-format"),
    path("try/", views.try_out, name="try-format"),
    path("speed/", views.speed, name="folder-speed"),
]
