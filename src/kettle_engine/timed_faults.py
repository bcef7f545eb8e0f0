"""Faults of the studio's devices at times of a take, from a file; for trying what a take stands."""

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kettle_core.errors import DeviceError
from kettle_core.timing.ticks import NS_PER_S

MOST_BYTES = 1_000_000
CLOCK = "clock"


@dataclass(frozen=True)
class TimedFault:
    """A fault that begins or ends at a record time; "clock" has the device's clock jump."""

    at_ns: int
    device: str
    fault: str
    on: bool = True

    def call(self) -> tuple[str, dict[str, Any]]:
        """What is asked of the driver: a name and values."""
        if self.fault == CLOCK:
            return "jump_clock", {"device_id": self.device}
        return "set_fault", {"device_id": self.device, "fault": self.fault, "on": self.on}


def read_faults(path: Path) -> tuple[TimedFault, ...]:
    """Faults of a file of JSON lines, such as
    {"at_s": 3, "device": "webcam-1", "fault": "unplugged", "on": true}.

    Raises
    ------
    DeviceError
        If the file can't be read or a line is none; says which.
    """
    try:
        with path.open("rb") as file:
            lines = file.read(MOST_BYTES).splitlines()
    except OSError as error:
        raise DeviceError(f"The faults {path} cannot be read: {error.strerror}.") from error
    found = []
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            row = json.loads(line)
            at_ns = round(float(row["at_s"]) * NS_PER_S)
            on = bool(row.get("on", True))
            found.append(TimedFault(at_ns, str(row["device"]), str(row["fault"]), on))
        except (ValueError, KeyError, TypeError, AttributeError, OverflowError) as error:
            raise DeviceError(
                f"Line {number} of {path} is no fault such as "
                '{"at_s": 3, "device": "webcam-1", "fault": "unplugged", "on": true}: '
                f"{error!r}."
            ) from error
    return tuple(sorted(found, key=lambda fault: fault.at_ns))
