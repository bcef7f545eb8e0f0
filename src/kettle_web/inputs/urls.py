from django.urls import path

from kettle_web.inputs import views

urlpatterns = [
    path("add/", views.add, name="add-input"),
    path("order/", views.order, name="order-inputs"),
    path("<slug:input_id>/", views.page, name="input"),
    path("<slug:input_id>/save/", views.save, name="save-input"),
    path("<slug:input_id>/delete/", views.delete, name="delete-input"),
    path("<slug:input_id>/besides/", views.besides, name="besides"),
    path("<slug:input_id>/set-up/", views.set_up, name="set-up"),
    path("<slug:input_id>/heard/<slug:which>/", views.heard, name="heard"),
]
