from django.urls import path

from kettle_web.format import views

urlpatterns = [
    path("", views.page, name="format"),
    path("save/", views.save, name="save-format"),
    path("try/", views.try_out, name="try-format"),
    path("trial/", views.order_trial, name="order-trial"),
    path("trial/take/", views.take_proposal, name="take-proposal"),
    path("trial/<slug:input_id>/<int:number>/", views.trial_crop, name="trial-crop"),
    path("speed/", views.speed, name="folder-speed"),
]
