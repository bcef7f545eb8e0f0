"""The modes that a file has as an input."""

import json
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

from kettle_core.errors import DeviceError, RigError
from kettle_core.rig.devices import SAMPLE_RATE_HZ, Mode
from kettle_media.rig_document import mode_from_dict

# For what hangs and computes nothing. On a busy machine a sound file has taken 20 s.
LIMIT_S = 90.0


@dataclass(frozen=True)
class Probe:
    """What is in a file; None where it has no picture or no sound."""

    picture: Mode | None
    sound: Mode | None


def probe_file(path: Path) -> Probe:
    """Modes of a file's picture and sound. Raises DeviceError if it can't be played."""
    command = [sys.executable, "-m", "kettle_media.rig.look_into", str(path)]
    try:
        done = subprocess.run(command, capture_output=True, timeout=LIMIT_S, check=False)
    except subprocess.TimeoutExpired as error:
        raise DeviceError(f"{path.name} cannot be played: reading it takes too long.") from error
    except OSError as error:
        raise DeviceError(f"{path.name} cannot be looked at: {error}.") from error
    try:
        found = json.loads(done.stdout)
    except ValueError as error:
        raise DeviceError(f"{path.name} cannot be played: reading it fails.") from error
    if "error" in found:
        raise DeviceError(f"{path.name} cannot be played: {found['error']}.")
    if not found["picture"] and not found["sound"]:
        raise DeviceError(f"{path.name} holds neither a picture that moves nor a sound.")
    picture, sound = found["picture"], found["sound"]
    try:
        return Probe(
            mode_from_dict(picture) if picture else None,
            mode_from_dict({**sound, "sample_rate_hz": SAMPLE_RATE_HZ}) if sound else None,
        )
    except RigError as error:
        raise DeviceError(f"{path.name} cannot be played: {error}") from error
