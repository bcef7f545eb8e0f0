from django.urls import path

from kettle_web.library import views

urlpatterns = [
    path("takes/", views.arrange, name="arrange-takes"),
    path("takes/<int:pk>/name/", views.rename, name="rename-take"),
    path("takes/<int:pk>/duplicate/", views.duplicate, name="duplicate-take"),
    path("undo/", views.undo, name="undo-library"),
    path("folders/", views.folders, name="folders"),
    path("bin/", views.bin_, name="bin"),
    path("bin/back/", views.back, name="bring-back"),
    path("bin/empty/", views.empty, name="empty-bin"),
]
