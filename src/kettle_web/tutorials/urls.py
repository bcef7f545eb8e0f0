from django.urls import path

from kettle_web.tutorials import views

urlpatterns = [
    path("new/", views.new, name="new-tutorial"),
    path("<int:pk>/", views.tutorial, name="tutorial"),
    path("<int:pk>/save/", views.save, name="save-tutorial"),
    path("<int:pk>/undo/", views.undo, name="undo-tutorial"),
]
