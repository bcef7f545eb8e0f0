"""The engine of this data folder, as pages ask it."""

from typing import Any

from django.conf import settings

from kettle_core.errors import EngineError
from kettle_core.rig.devices import DeviceInfo
from kettle_engine.client import EngineClient
from kettle_engine.protocol import device_from_dict


def engine() -> EngineClient:
    """The engine of this data folder."""
    return EngineClient(settings.DATA)


def plugged_in() -> list[DeviceInfo]:
    """Everything that is plugged in. Raises EngineError."""
    return [device_from_dict(row) for row in engine().ask("devices")]


def status_or_message() -> dict[str, Any]:
    """The engine's status, or the sentence that says why there is none."""
    try:
        return dict(engine().ask("status"))
    except EngineError as error:
        return {"state": "absent", "message": str(error)}


def plugged_in_or_none() -> list[DeviceInfo]:
    """What is plugged in; nothing where the engine can't be asked, which the page says."""
    try:
        return plugged_in()
    except EngineError:
        return []
