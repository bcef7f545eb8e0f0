from django.urls import path

from kettle_web.takes import views

urlpatterns = [
    path("", views.start, name="start"),
    path("rigs/<slug:slug>/takes/", views.takes, name="takes"),
    path("takes/<int:pk>/", views.take, name="take"),
    path("takes/<int:pk>/delete/", views.delete, name="delete-take"),
    path("takes/<int:pk>/card/", views.card, name="take-card"),
    path("takes/<int:pk>/change/", views.change, name="change-take"),
    path("takes/<int:pk>/undo/", views.undo, name="undo-take"),
    path("takes/<int:pk>/rig/", views.change_rig, name="change-take-rig"),
    path("takes/<int:pk>/rig/as-recorded/", views.rig_as_recorded, name="take-rig-as-recorded"),
    path("takes/<int:pk>/overview/", views.take_overview, name="take-overview"),
    path("takes/<int:pk>/fine/<slug:name>/", views.fine, name="take-fine"),
    path("takes/<int:pk>/layers/", views.layers, name="take-layers"),
    path("takes/<int:pk>/repair/", views.repair, name="repair-take"),
    path("takes/<int:pk>/strip/<slug:name>/", views.strip, name="take-strip"),
    path("takes/<int:pk>/compose/", views.take_compose, name="take-compose"),
    path("takes/<int:pk>/<slug:kind>/<slug:name>/", views.take_file, name="take-file"),
]
