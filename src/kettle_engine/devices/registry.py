"""Which drivers there are, and which of them a device belongs to."""

import os
from collections.abc import Mapping

STUDIO = "studio"
BUILT_IN = {
    STUDIO: "kettle_studio.driver:studio_driver",
    "file": "kettle_media.rig.file_driver:material_driver",
}


def known_drivers(environment: Mapping[str, str] = os.environ) -> dict[str, str]:
    """Factories ("module:name") by driver; KETTLE_DRIVERS adds more: name=module:factory, …

    A factory is called with the data folder. Ids of a driver's devices begin with its name and a
    colon; those of the studio have no colon.

    >>> known_drivers({"KETTLE_DRIVERS": "lamp=my_lamp:driver"})["lamp"]
    'my_lamp:driver'
    """
    more = environment.get("KETTLE_DRIVERS", "")
    pairs = (entry.strip().partition("=") for entry in more.split(",") if entry.strip())
    return BUILT_IN | {name: factory for name, _, factory in pairs}


def driver_of(device_id: str, drivers: Mapping[str, str]) -> str:
    """The driver of a device by its id.

    >>> driver_of("file:talk.mp4", BUILT_IN), driver_of("webcam-1", BUILT_IN)
    ('file', 'studio')
    """
    name, colon, _ = device_id.partition(":")
    return name if colon and name in drivers else STUDIO
