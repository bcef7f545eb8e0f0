"""All drivers as one: each device is asked for where it belongs."""

from collections.abc import Sequence

from kettle_core.errors import DeviceError
from kettle_core.rig.devices import Device, DeviceInfo, Driver, Mode, Surrounding


class Drivers:
    """A driver made of drivers, in the order in which their devices are listed."""

    def __init__(self, *drivers: Driver) -> None:
        self._drivers = drivers

    def list_devices(self) -> Sequence[DeviceInfo]:
        """Every device that is plugged in."""
        return [device for driver in self._drivers for device in driver.list_devices()]

    def owns(self, device_id: str) -> bool:
        """Whether an id is of one of the drivers."""
        return any(driver.owns(device_id) for driver in self._drivers)

    def open_device(self, device_id: str, mode: Mode, from_ns: int) -> Device:
        """Open a device from a master time on. Raises DeviceError."""
        return self._driver_of(device_id).open_device(device_id, mode, from_ns)

    def surroundings(self, device_id: str) -> Sequence[Surrounding]:
        """What of the computer will be seen or heard besides."""
        return self._driver_of(device_id).surroundings(device_id)

    def switch_surrounding(self, device_id: str, key: str, on: bool) -> None:
        """Have something shown or heard, or not. Raises DeviceError."""
        self._driver_of(device_id).switch_surrounding(device_id, key, on)

    def _driver_of(self, device_id: str) -> Driver:
        for driver in self._drivers:
            if driver.owns(device_id):
                return driver
        raise DeviceError(f"No driver knows a device “{device_id}”.", "unplugged")
