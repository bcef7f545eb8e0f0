"""Draws an SVG in a process of its own: what breaks the renderer must not break who asked.

Run as `python -m kettle_media.rig.svg SIDE_PX` it reads an SVG and writes a PNG.
"""

import resource
import subprocess
import sys

from kettle_core.errors import PictureError
from kettle_media.priority import WORKS, rank

MEMORY_BYTES = 2_000_000_000
# Of the processor; of the clock more, as others may have it meanwhile.
SECONDS, LIMIT_S = 5, 60.0


def svg_to_png(data: bytes, side_px: int) -> bytes:
    """A PNG of an SVG, as large as fits a square of some px.

    Raises
    ------
    PictureError
        If it can't be drawn, or takes more memory or time than a picture should.
    """
    try:
        done = subprocess.run(
            [sys.executable, "-m", "kettle_media.rig.svg", str(side_px)],
            input=data,
            capture_output=True,
            check=True,
            timeout=LIMIT_S,
        )
    except (subprocess.SubprocessError, OSError) as error:
        raise PictureError(f"The SVG cannot be drawn: {error}.") from error
    return done.stdout


def main() -> None:
    """Draw what comes in, within limits."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    # Whatever rank the one has who asked.
    rank(WORKS)
    import resvg_py

    side_px = int(sys.argv[1])
    text = sys.stdin.buffer.read().decode("utf-8")
    # Both sides: by the width alone a narrow picture would be drawn endlessly high.
    made = resvg_py.svg_to_bytes(svg_string=text, width=side_px, height=side_px)
    sys.stdout.buffer.write(bytes(made))


if __name__ == "__main__":
    main()
