from django.urls import path

from kettle_web.assembly import views

urlpatterns = [
    path("tutorials/<int:pk>/assembly/", views.of_tutorial, name="tutorial-assembly"),
    path("assembly/<int:pk>/", views.assembly, name="assembly"),
    path("assembly/<int:pk>/quiet/", views.quiet, name="assembly-quiet"),
    path("assembly/<int:pk>/layers/", views.layers, name="assembly-layers"),
    path("assembly/<int:pk>/change/", views.change_assembly, name="change-assembly"),
    path("assembly/<int:pk>/retell/", views.retell_assembly, name="retell-assembly"),
    path("assembly/<int:pk>/undo/", views.undo, name="undo-assembly"),
    path("assembly/<int:pk>/new/", views.new_version, name="new-version"),
    path("assembly/<int:pk>/rename/", views.rename, name="rename-version"),
    path("assembly/<int:pk>/delete/", views.delete, name="delete-version"),
]
