from django.urls import path

from kettle_web.sound import views

urlpatterns = [
    path("", views.sound, name="sound"),
    path("stems/", views.stems, name="stems"),
    path("stems/save/", views.save_stems, name="save-stems"),
    path("balance/", views.balance, name="sound-balance"),
    path("at/<slug:input_id>/", views.page, name="sound-of"),
    path("at/<slug:input_id>/save/", views.save, name="save-sound"),
    path("at/<slug:input_id>/listen/", views.listen, name="listen-sound"),
]
