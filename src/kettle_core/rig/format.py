"""The format as values: how picture and sound of tracks and program are written, and where."""

from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Annotated, Literal

from annotated_types import MaxLen, MultipleOf

from kettle_core.fields import FrameRate, OneOf, within
from kettle_core.rig.devices import Mode
from kettle_core.scene.layout import Box

FRAME_RATES = ("15", "24000/1001", "24", "25", "30000/1001", "30", "48", "50", "60000/1001", "60")
FRAME_SIZES = (
    (1920, 1080),
    (3840, 2160),
    (2560, 1440),
    (1280, 720),
    (854, 480),
    (640, 480),
    (320, 240),
    (1080, 1920),
    (1080, 1080),
)
SCALES = ("1", "3/4", "2/3", "1/2", "1/3", "1/4")
KEYFRAMES_S = ("1/4", "1/2", "1", "2", "4", "8")
SCALINGS = ("area", "bicubic", "lanczos")
QUALITY, CEILING, CONSTANT = "quality", "ceiling", "constant"
LEAST_CRF, MOST_CRF = 1, 45
LEAST_KBPS, MOST_KBPS = 50, 200_000
SMALLEST_TRACK_PX = 16
DEFAULT_PATTERN = "{rig}-{date}-take-{take}-{track}"

Speed = Literal["ultrafast", "superfast", "veryfast", "fast", "medium", "slow"]
SPEEDS: tuple[Speed, ...] = ("ultrafast", "superfast", "veryfast", "fast", "medium", "slow")


@dataclass(frozen=True)
class Rate:
    """Rate control: what of quality and bitrate is kept, and how much of it.

    `control` is constant quality (`crf`, lower is better), a bitrate with a ceiling (quality
    `crf` as long as that takes no more than `kbps`), or a constant bitrate (`kbps`, padded).
    `kbps` 0 is as many as the size and rate of the picture want. What a control does not use
    is kept for when it is chosen again.
    """

    control: Annotated[str, OneOf((QUALITY, CEILING, CONSTANT))]
    crf: Annotated[int, within(LEAST_CRF, MOST_CRF)] = 20
    kbps: Annotated[int, within(0, MOST_KBPS)] = 0


@dataclass(frozen=True)
class TrackFormat:
    """How the tracks of pictures are written: `scale` of the input's size, `fps` 0 as it comes."""

    rate: Rate
    speed: Speed = "superfast"
    keyframe_s: Annotated[Fraction, OneOf(KEYFRAMES_S, "the distances")] = Fraction(1)
    scale: Annotated[Fraction, OneOf(SCALES, "the scales")] = Fraction(1)
    fps: FrameRate = Fraction(0)

    @property
    def is_steady(self) -> bool:
        """Whether every frame is written, also one that equals the one before."""
        return self.rate.control == CONSTANT

    def written(self, mode: Mode) -> Mode:
        """Size in px (even) and frame rate of the track of an input of a mode.

        >>> half = TrackFormat(Rate("quality"), scale=Fraction(1, 2), fps=Fraction(60))
        >>> half.written(Mode(1366, 768, Fraction(30))).in_words()
        '684 × 384 px · 30 fps'
        """
        if self.scale == 1 and not self.fps:
            return mode
        sides = (
            max(SMALLEST_TRACK_PX, round(s * self.scale / 2) * 2) for s in (mode.width, mode.height)
        )
        width, height = (min(a, b) for a, b in zip(sides, (mode.width, mode.height), strict=True))
        return Mode(width, height, min(self.fps, mode.fps) if self.fps else mode.fps)


@dataclass(frozen=True)
class ProgramFormat:
    """How the program is encoded, its sound included; `channels` 1 is mono."""

    rate: Rate = Rate(QUALITY, 19)
    speed: Speed = "veryfast"
    keyframe_s: Annotated[Fraction, OneOf(KEYFRAMES_S, "the distances")] = Fraction(2)
    sound_codec: Annotated[str, OneOf(("aac", "opus"))] = "aac"
    sound_kbps: Annotated[int, within(32, 512)] = 192
    sample_rate_hz: Literal[44_100, 48_000] = 48_000
    channels: Literal[1, 2] = 2


@dataclass(frozen=True)
class FilesFormat:
    """What files there are and where: `root` "" is the data folder, or one that is allowed."""

    sound_codec: Annotated[str, OneOf(("flac", "pcm24"))] = "flac"
    root: Annotated[str, MaxLen(400)] = ""
    pattern: Annotated[str, MaxLen(200)] = DEFAULT_PATTERN


# A screen is mostly still and must stay sharp; a webcam's noise would eat any bitrate.
SCREEN_TRACKS = TrackFormat(Rate(QUALITY, 18), "superfast")
WEBCAM_TRACKS = TrackFormat(Rate(CEILING, 20), "ultrafast")


@dataclass(frozen=True)
class Format:
    """How a rig is written: the program's frame, its tracks by default, the program, files.

    `scaling` is how a picture is made larger or smaller on its way into the frame.
    """

    frame_width: Annotated[int, within(64, 7680), MultipleOf(2)] = 1920
    frame_height: Annotated[int, within(64, 4320), MultipleOf(2)] = 1080
    fps: Annotated[Fraction, OneOf(FRAME_RATES, "the frame rates")] = Fraction(30)
    scaling: Annotated[str, OneOf(SCALINGS)] = "area"
    screens: TrackFormat = field(default=SCREEN_TRACKS)
    webcams: TrackFormat = field(default=WEBCAM_TRACKS)
    program: ProgramFormat = field(default=ProgramFormat())
    files: FilesFormat = field(default=FilesFormat())

    @property
    def frame_size(self) -> tuple[int, int]:
        """Width and height of the frame in px."""
        return self.frame_width, self.frame_height

    def shrunk(self, part: int) -> "Format":
        """With a frame of one `part`th of the width and height, in even px.

        >>> Format().shrunk(2).frame_size
        (960, 540)
        """
        across, down = (max(2, px // (2 * part) * 2) for px in self.frame_size)
        return replace(self, frame_width=across, frame_height=down)

    @property
    def frame(self) -> Box:
        """The frame as a box of its own pixels."""
        return Box(0, 0, self.frame_width, self.frame_height)
