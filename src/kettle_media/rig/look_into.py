"""Looks into a file, in a process of its own: an odd file must not harm who asks.

Run as `python -m kettle_media.rig.look_into FILE` it prints what it found as JSON. It needs the
codecs and nothing else, so that it has begun at once.
"""

import json
import resource
import sys
from fractions import Fraction
from pathlib import Path
from typing import Any

from av.error import FFmpegError

from kettle_media.foreign import open_foreign

VIDEO_ENDINGS = (".mp4", ".mkv", ".mov", ".webm", ".avi")
SOUND_ENDINGS = (".wav", ".flac", ".mp3", ".m4a", ".ogg", ".opus")
FPS_LIMITS = (Fraction(1), Fraction(240))
CPU_LIMIT_S, MEMORY_BYTES = 10, 2_000_000_000


def look_into(path: Path) -> dict[str, Any]:
    """What a file holds as its "picture" and its "sound", in words of modes; None for what it has
    not. Raises what PyAV does where it can't be read.
    """
    picture = sound = None
    with open_foreign(path) as container:
        # What players show and play: a cover picture is none, nor a second sound.
        stream = container.streams.best("video")
        if stream and path.suffix.lower() in VIDEO_ENDINGS:
            rate = stream.average_rate or Fraction(25)
            fps = min(max(rate.limit_denominator(1001), FPS_LIMITS[0]), FPS_LIMITS[1])
            width, height = stream.width // 2 * 2, stream.height // 2 * 2
            if width >= 2 and height >= 2 and next(container.decode(stream), None):
                picture = {"width": width, "height": height, "fps": str(fps)}
    with open_foreign(path) as container:
        audio = container.streams.best("audio")
        if audio and any(frame.samples for frame in container.decode(audio)):
            sound = {"channels": min(2, audio.codec_context.channels)}
    return {"picture": picture, "sound": sound}


def main() -> None:
    """Print what is in a file, within limits."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (CPU_LIMIT_S, CPU_LIMIT_S))
    try:
        found = look_into(Path(sys.argv[1]))
    except (FFmpegError, OSError, ValueError, AttributeError) as error:
        found = {"error": str(error)}
    print(json.dumps(found))


if __name__ == "__main__":
    main()
