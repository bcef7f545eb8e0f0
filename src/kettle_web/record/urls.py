from django.urls import path

from kettle_web.record import views

urlpatterns = [
    path("", views.record, name="record"),
    path("start/", views.record_start, name="record-start"),
    path("stop/", views.record_stop, name="record-stop"),
    path("start-over/", views.start_over, name="record-start-over"),
    path("give-up/", views.give_up, name="record-give-up"),
    path("cue/", views.cue, name="record-cue"),
    path("tutorial/", views.choose, name="record-tutorial"),
    path("again/", views.again, name="record-again"),
    path("first-scene/", views.first_scene, name="record-first-scene"),
    path("keys/", views.key_sheet, name="record-keys"),
]
