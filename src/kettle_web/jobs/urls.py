from django.urls import path

from kettle_web.jobs import views

urlpatterns = [
    path("", views.jobs, name="jobs"),
    path("<int:pk>/cancel/", views.cancel, name="cancel-job"),
    path("<int:pk>/next/", views.do_next, name="do-job-next"),
    path("<int:pk>/again/", views.try_again, name="try-job-again"),
]
