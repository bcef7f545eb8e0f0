"""What is in a file, found out in a process of its own: an odd file must not harm who asks.

Run as `python -m kettle_media.rig.probe FILE` it prints the modes as JSON.
"""

import json
import resource
import subprocess
import sys
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

from av.error import FFmpegError

from kettle_core.errors import DeviceError, RigError
from kettle_core.rig.devices import SAMPLE_RATE_HZ, Mode
from kettle_media.foreign import open_foreign
from kettle_media.rig_document import mode_from_dict, mode_to_dict

VIDEO_ENDINGS = (".mp4", ".mkv", ".mov", ".webm", ".avi")
SOUND_ENDINGS = (".wav", ".flac", ".mp3", ".m4a", ".ogg", ".opus")
FPS_LIMITS = (Fraction(1), Fraction(240))
CPU_LIMIT_S, MEMORY_BYTES = 10, 2_000_000_000
# For what hangs and computes nothing. On a busy machine a sound file has taken 20 s.
LIMIT_S = 90.0


@dataclass(frozen=True)
class Probe:
    """What is in a file; None where it has no picture or no sound."""

    picture: Mode | None
    sound: Mode | None


def probe_file(path: Path) -> Probe:
    """Modes of a file's picture and sound. Raises DeviceError if it can't be played."""
    command = [sys.executable, "-m", "kettle_media.rig.probe", str(path)]
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
        raise DeviceError(found["error"])
    try:
        modes = [mode_from_dict(m) if m else None for m in (found["picture"], found["sound"])]
    except RigError as error:
        raise DeviceError(f"{path.name} cannot be played: {error}") from error
    return Probe(*modes)


def look_into(path: Path) -> Probe:
    """As `probe_file`, here and now."""
    picture = sound = None
    with open_foreign(path) as container:
        if container.streams.video and path.suffix.lower() in VIDEO_ENDINGS:
            stream = container.streams.video[0]
            rate = stream.average_rate or Fraction(25)
            fps = min(max(rate.limit_denominator(1001), FPS_LIMITS[0]), FPS_LIMITS[1])
            width, height = stream.width // 2 * 2, stream.height // 2 * 2
            if width >= 2 and height >= 2 and next(container.decode(stream), None):
                picture = Mode(width, height, fps)
    with open_foreign(path) as container:
        if container.streams.audio:
            audio = container.streams.audio[0]
            if any(frame.samples for frame in container.decode(audio)):
                channels = min(2, audio.codec_context.channels)
                sound = Mode(sample_rate_hz=SAMPLE_RATE_HZ, channels=channels)
    if picture is None and sound is None:
        raise DeviceError(f"{path.name} holds neither a picture that moves nor a sound.")
    return Probe(picture, sound)


def main() -> None:
    """Print what is in a file, within limits."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (CPU_LIMIT_S, CPU_LIMIT_S))
    path = Path(sys.argv[1])
    try:
        found = look_into(path)
    except DeviceError as error:
        print(json.dumps({"error": str(error)}))
    except (FFmpegError, OSError, ValueError, AttributeError) as error:
        print(json.dumps({"error": f"{path.name} cannot be played: {error}."}))
    else:
        modes = {"picture": found.picture, "sound": found.sound}
        print(json.dumps({k: mode_to_dict(m) if m else None for k, m in modes.items()}))


if __name__ == "__main__":
    main()
