from django.urls import include, path

from kettle_web.frame.health import health

OF_A_RIG = "rigs/<slug:slug>/"

urlpatterns = [
    path("health/", health, name="health"),
    path(OF_A_RIG + "inputs/", include("kettle_web.inputs.urls")),
    path(OF_A_RIG + "scenes/", include("kettle_web.scenes.urls")),
    path(OF_A_RIG + "sound/", include("kettle_web.sound.urls")),
    path(OF_A_RIG + "format/", include("kettle_web.format.urls")),
    path(OF_A_RIG + "record/", include("kettle_web.record.urls")),
    path("tutorials/", include("kettle_web.tutorials.urls")),
    path("library/", include("kettle_web.library.urls")),
    path("jobs/", include("kettle_web.jobs.urls")),
    path("studio/", include("kettle_web.studio.urls")),
    path("", include("kettle_web.assembly.urls")),
    path("", include("kettle_web.export.urls")),
    path("", include("kettle_web.takes.urls")),
    path("", include("kettle_web.rigs.urls")),
]
