from django.urls import path

from kettle_web.record import views

urlpatterns = [
    path("", views.record, name="record"),
    path("start/", views.record_start, name="record-start"),
    path("stop/", views.record_stop, name="record-stop"),
]
