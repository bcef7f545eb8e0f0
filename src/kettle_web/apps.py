from django.apps import AppConfig


class KettleWebConfig(AppConfig):
    """The pages' application."""

    name = "kettle_web"
    label = "kettle"
