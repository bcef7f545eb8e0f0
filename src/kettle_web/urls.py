from django.urls import path

from kettle_web import views

urlpatterns = [
    path("", views.start, name="start"),
    path("rigs/new/", views.new_rig, name="new-rig"),
    path("rigs/<slug:slug>/", views.patch_sheet, name="patch-sheet"),
    path("rigs/<slug:slug>/format/", views.set_format, name="set-format"),
    path("rigs/<slug:slug>/crosspoint/", views.set_crosspoint, name="set-crosspoint"),
    path("rigs/<slug:slug>/record/", views.record, name="record"),
    path("rigs/<slug:slug>/record/start/", views.record_start, name="record-start"),
    path("rigs/<slug:slug>/record/stop/", views.record_stop, name="record-stop"),
    path("rigs/<slug:slug>/takes/", views.takes, name="takes"),
    path("takes/<int:pk>/", views.take, name="take"),
    path("takes/<int:pk>/progress.json", views.take_progress, name="take-progress"),
    path("takes/<int:pk>/compose/", views.take_compose, name="take-compose"),
    path("takes/<int:pk>/<slug:kind>/<slug:name>/", views.take_file, name="take-file"),
]
