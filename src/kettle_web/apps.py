from importlib import import_module

from django.apps import AppConfig


class KettleWebConfig(AppConfig):
    """The pages' application."""

    name = "kettle_web"
    label = "kettle"

    def ready(self) -> None:
        """Have takes follow their rigs."""
        import_module("kettle_web.takes.own_rig")
