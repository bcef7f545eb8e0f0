from django.urls import path

from kettle_web import input_views, rig_views, studio_views, views

urlpatterns = [
    path("", views.start, name="start"),
    path("rigs/import/", rig_views.import_rig, name="import-rig"),
    path("rigs/new/", views.new_rig, name="new-rig"),
    path("rigs/<slug:slug>/", views.patch_sheet, name="patch-sheet"),
    path("rigs/<slug:slug>/format/", views.set_format, name="set-format"),
    path("rigs/<slug:slug>/crosspoint/", views.set_crosspoint, name="set-crosspoint"),
    path("rigs/<slug:slug>/undo/", views.undo, name="undo"),
    path("rigs/<slug:slug>/rename/", rig_views.rename, name="rename-rig"),
    path("rigs/<slug:slug>/delete/", rig_views.delete, name="delete-rig"),
    path("rigs/<slug:slug>/duplicate/", rig_views.duplicate, name="duplicate-rig"),
    path("rigs/<slug:slug>/export/", rig_views.export, name="export-rig"),
    path("rigs/<slug:slug>/identify/", rig_views.identify, name="identify"),
    path("rigs/<slug:slug>/inputs/add/", input_views.add, name="add-input"),
    path("rigs/<slug:slug>/inputs/order/", input_views.order, name="order-inputs"),
    path("rigs/<slug:slug>/inputs/<slug:input_id>/", input_views.page, name="input"),
    path("rigs/<slug:slug>/inputs/<slug:input_id>/save/", input_views.save, name="save-input"),
    path(
        "rigs/<slug:slug>/inputs/<slug:input_id>/delete/", input_views.delete, name="delete-input"
    ),
    path("rigs/<slug:slug>/inputs/<slug:input_id>/besides/", input_views.besides, name="besides"),
    path("rigs/<slug:slug>/inputs/<slug:input_id>/set-up/", input_views.set_up, name="set-up"),
    path(
        "rigs/<slug:slug>/inputs/<slug:input_id>/heard/<slug:which>/",
        input_views.heard,
        name="heard",
    ),
    path("rigs/<slug:slug>/stills/<slug:digest>/", rig_views.still, name="still"),
    path("studio/", studio_views.studio, name="studio"),
    path("studio/fault/", studio_views.fault, name="studio-fault"),
    path("studio/switch/", studio_views.switch, name="studio-switch"),
    path("rigs/<slug:slug>/record/", views.record, name="record"),
    path("rigs/<slug:slug>/record/start/", views.record_start, name="record-start"),
    path("rigs/<slug:slug>/record/stop/", views.record_stop, name="record-stop"),
    path("rigs/<slug:slug>/takes/", views.takes, name="takes"),
    path("takes/<int:pk>/", views.take, name="take"),
    path("takes/<int:pk>/progress.json", views.take_progress, name="take-progress"),
    path("takes/<int:pk>/compose/", views.take_compose, name="take-compose"),
    path("takes/<int:pk>/<slug:kind>/<slug:name>/", views.take_file, name="take-file"),
]
