from django.urls import path

from kettle_web.scenes import views

urlpatterns = [
    path("", views.scenes, name="scenes"),
    path("new/", views.new, name="new-scene"),
    path("order/", views.order, name="order-scenes"),
    path("at/<slug:scene_id>/", views.page, name="scene"),
    path("at/<slug:scene_id>/save/", views.save, name="save-scene"),
    path("at/<slug:scene_id>/delete/", views.delete, name="delete-scene"),
    path("at/<slug:scene_id>/play/", views.play, name="play-change"),
    path("at/<slug:scene_id>/pick/", views.pick, name="pick-colour"),
]
