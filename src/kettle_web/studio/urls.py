from django.urls import path

from kettle_web.studio import views

urlpatterns = [
    path("", views.studio, name="studio"),
    path("fault/", views.fault, name="studio-fault"),
    path("switch/", views.switch, name="studio-switch"),
]
