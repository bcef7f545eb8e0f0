from django.urls import path

from kettle_web.export import views

urlpatterns = [
    path("tutorials/<int:pk>/export/", views.of_tutorial, name="tutorial-export"),
    path("assembly/<int:pk>/export/", views.export, name="export"),
    path("assembly/<int:pk>/export/new/", views.new_export, name="new-export"),
    path("assembly/<int:pk>/export/undo/", views.undo, name="undo-exports"),
    path("exports/<int:pk>/again/", views.again, name="export-again"),
    path("exports/<int:pk>/delete/", views.delete, name="delete-export"),
    path("exports/<int:pk>/file/", views.export_file, name="export-file"),
    path("exports/<int:pk>/picture/", views.export_picture, name="export-picture"),
]
