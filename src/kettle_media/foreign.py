"""Files of others, opened: only as what they can be, so that none leads to other files."""

from pathlib import Path
from typing import Any

import av

# What is inside counts, not the name: a playlist in disguise would open what it names.
FORMATS = (
    "matroska,webm,mov,mp4,m4a,3gp,3g2,mj2,avi,wav,w64,aiff,flac,mp3,ogg,aac,caf,"
    "mpegts,mpeg,h264,hevc,gif,apng,webp_pipe,png_pipe,jpeg_pipe"
)
OPTIONS = {"format_whitelist": FORMATS, "protocol_whitelist": "file"}


def open_foreign(path: Path) -> Any:
    """Open a file with pictures or sound. Raises what PyAV does where it is none that is known."""
    return av.open(str(path), options=OPTIONS)
