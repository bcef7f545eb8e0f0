from importlib import import_module

from django.apps import AppConfig


class KettleWebConfig(AppConfig):
    """The pages' application."""

    name = "kettle_web"
    label = "kettle"

    def ready(self) -> None:
        """Have rows and files follow what happens to others."""
        for subject in ("library", "rigs", "assembly", "export"):
            import_module(f"kettle_web.{subject}.services")
        import_module("kettle_web.takes.own_rig")
