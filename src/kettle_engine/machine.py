"""How the machine is: room, load, cores."""

import os
from typing import Any


def machine_status(disk_free_bytes: int) -> dict[str, Any]:
    """Room left and load of this machine."""
    return {
        "disk_free_bytes": disk_free_bytes,
        "load": round(os.getloadavg()[0], 1),
        "cores": os.cpu_count() or 1,
    }
