from django.urls import path

from kettle_web.rigs import carrying_views, views

urlpatterns = [
    path("rigs/import/", carrying_views.import_rig, name="import-rig"),
    path("rigs/new/", views.new_rig, name="new-rig"),
    path("rigs/<slug:slug>/", views.patch_sheet, name="patch-sheet"),
    path("rigs/<slug:slug>/crosspoint/", views.set_crosspoint, name="set-crosspoint"),
    path("rigs/<slug:slug>/undo/", views.undo, name="undo"),
    path("rigs/<slug:slug>/rename/", carrying_views.rename, name="rename-rig"),
    path("rigs/<slug:slug>/delete/", carrying_views.delete, name="delete-rig"),
    path("rigs/<slug:slug>/duplicate/", carrying_views.duplicate, name="duplicate-rig"),
    path("rigs/<slug:slug>/export/", carrying_views.export, name="export-rig"),
    path("rigs/<slug:slug>/identify/", carrying_views.identify, name="identify"),
    path("rigs/<slug:slug>/stills/<slug:digest>/", carrying_views.still, name="still"),
]
