"""Exports: what a finished program is handed over as, and how large it may be."""

from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Annotated, Literal

from annotated_types import Interval

from kettle_core.errors import CutError
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import (
    AverageBitrate,
    Codec,
    EncoderSettings,
    RateControl,
    rate_control,
)
from kettle_core.rig.format import MOST_KBPS, Format, ProgramFormat, Rate, Speed
from kettle_core.scene.layout import Box

LINES: tuple[Literal[480, 720, 1080, 1440, 2160], ...] = (480, 720, 1080, 1440, 2160)
Kind = Literal["mp4", "webm", "av1", "gif", "webp", "png", "wav", "flac", "mp3", "m4a"]
SOUND_ONLY = ("wav", "flac", "mp3", "m4a")
VIDEO, MOVING = ("mp4", "webm", "av1"), ("gif", "webp")
# AV1 lies in WebM, frames in an archive.
SUFFIXES = {"av1": "webm", "png": "zip"}
# A moving picture is part of a text: longer ones are videos.
MOST_MOVING_S, MOST_STILLS = 60, 3000
MOST_MS = 10**9
PORTRAIT = Fraction(9, 16)
MOST_MB = 1_000_000.0
# Of what may be used so much is aimed at; what comes out is measured and aimed at again.
AIM, LEAST_USED = 0.975, 0.95
# A packet costs this much in the tables of a file, and the file itself this much.
PACKET_BYTES, FILE_BYTES = 20, 6_000
SOUND_PACKETS_PER_S = 50
# Fewer bits a pixel than this show nothing that can be read.
LEAST_BITS_A_PIXEL = 0.003
# kbit/s of the sound, and from how many of the picture on it gets them.
SOUND_KBPS = ((32, 0), (64, 120), (96, 300), (128, 700), (192, 1500))
# Nobody sees more than this; bits beyond it are not used.
BEST_CRF = 12


@dataclass(frozen=True)
class Export:
    """What is to be made.

    `lines` is how high the picture is in px, `crf` its quality; with `max_mb` the file is no
    larger than so many MB (10^6 bytes), whatever its quality. The whole is brought to a loudness
    of `lufs`; None leaves it as it is. `sound_kbps` is for MP3, M4A and the sound of pictures.

    Between `from_ms` and `until_ms` of the program; 0 for its end. In portrait, `lines` is the
    width and what is left out of the picture's sides is as `aside` says: 0 shows its left end,
    100 its right one. `fps` is for GIF and WebP. Without a largest size, `control` and `kbps` are
    as in a format (`Rate`).
    """

    kind: Kind = "mp4"
    lines: Literal[480, 720, 1080, 1440, 2160] = 1080
    crf: Annotated[int, Interval(ge=1, le=51)] = 20
    speed: Speed = "veryfast"
    max_mb: Annotated[float, Interval(ge=0, le=MOST_MB)] = 0.0
    sound_kbps: Annotated[int, Interval(ge=32, le=512)] = 192
    lufs: Annotated[float, Interval(ge=-40, le=-6)] | None = -16.0
    from_ms: Annotated[int, Interval(ge=0, le=MOST_MS)] = 0
    until_ms: Annotated[int, Interval(ge=0, le=MOST_MS)] = 0
    portrait: bool = False
    aside: Annotated[int, Interval(ge=0, le=100)] = 50
    fps: Annotated[int, Interval(ge=1, le=30)] = 12
    control: Literal["quality", "ceiling", "constant"] = "quality"
    kbps: Annotated[int, Interval(ge=0, le=MOST_KBPS)] = 0

    @property
    def has_picture(self) -> bool:
        """Whether it is seen."""
        return self.kind not in SOUND_ONLY

    @property
    def has_sound(self) -> bool:
        """Whether it is heard."""
        return self.kind in VIDEO or self.kind in SOUND_ONLY

    @property
    def suffix(self) -> str:
        """What its file's name ends in, behind the point."""
        return SUFFIXES.get(self.kind, self.kind)

    def format(self, program: Format) -> Format:
        """What is laid out: as many lines, of the program's shape, in even px.

        >>> Export(lines=720).format(Format()).frame_size
        (1280, 720)
        >>> Export(lines=720, portrait=True).format(Format()).frame_size
        (2276, 1280)
        """
        height = round(self.lines / PORTRAIT / 2) * 2 if self.portrait else self.lines
        width = round(program.frame_width * height / program.frame_height / 2) * 2
        return replace(program, frame_width=width, frame_height=height)

    def crop(self, program: Format) -> Box | None:
        """The part of that which is seen, None for all.

        >>> Export(lines=720, portrait=True, aside=100).crop(Format())
        Box(left=1556, top=0, width=720, height=1280)
        """
        if not self.portrait:
            return None
        wide, height = self.format(program).frame_size
        width = min(self.lines, wide)
        return Box(round((wide - width) * self.aside / 200) * 2, 0, width, height)

    def mode(self, program: Format) -> Mode:
        """The size and rate of its pictures."""
        crop, laid = self.crop(program), self.format(program)
        size = (crop.width, crop.height) if crop else laid.frame_size
        return Mode(*size, program.fps)

    def length_s(self, whole_s: float) -> float:
        """How long it is, of a program of a length."""
        return max(0.0, min(whole_s, self.until_ms / 1000 or whole_s) - self.from_ms / 1000)


def checked_length(order: Export, whole_s: float, fps: Fraction) -> float:
    """How long it will be, in s. Raises CutError if it can't be made like that."""
    if order.kind == "av1" and order.control == "constant" and not order.max_mb:
        raise CutError("AV1 keeps no constant bitrate here. Choose a ceiling, or VP9.", "control")
    length_s = order.length_s(whole_s)
    if length_s * fps < 1:
        raise CutError(
            f"There is nothing between these two times: the program is {whole_s:.1f} s long.",
            "until",
        )
    if order.kind in MOVING and length_s > MOST_MOVING_S:
        raise CutError(
            f"A moving picture lasts at most {MOST_MOVING_S} s, this is {length_s:.0f} s. Give the "
            "times of a stretch, or make a video.",
            "until",
        )
    if order.kind == "png" and length_s * fps > MOST_STILLS:
        raise CutError(
            f"At most {MOST_STILLS} frames are made, these are {length_s * float(fps):.0f}. Give "
            "the times of a stretch.",
            "until",
        )
    return length_s


@dataclass(frozen=True)
class Aim:
    """What an encoder is told, so that a file comes out at a size."""

    kbps: float
    sound_kbps: int


def first_aim(order: Export, mode: Mode, length_s: float) -> Aim:
    """The bitrates for a file of at most `max_mb`.

    Raises
    ------
    CutError
        With the smallest size that is possible, if that is larger.
    """
    least = least_kbps(mode)
    left = AIM * order.max_mb * 8000 / length_s - _tables_kbps(mode, length_s)
    found = Aim(0, 0)
    for sound_kbps, from_kbps in SOUND_KBPS:
        kbps = int(left - sound_kbps)
        if kbps >= max(from_kbps, least) and sound_kbps <= order.sound_kbps:
            found = Aim(kbps, sound_kbps)
    if not found.kbps:
        raise CutError(
            f"At {mode.height} lines this takes at least {least_mb(mode, length_s):.1f} MB. "
            "Allow more, or choose fewer lines.",
            "max_mb",
        )
    return found


def next_aim(order: Export, aim: Aim, mode: Mode, length_s: float, size_bytes: int) -> Aim | None:
    """Bitrates for another try after a file came out at a size; None if that size will do."""
    most = order.max_mb * 1e6
    if LEAST_USED * most <= size_bytes <= most:
        return None
    rest = (aim.sound_kbps + _tables_kbps(mode, length_s)) * length_s * 125
    share = (AIM * most - rest) / max(1.0, size_bytes - rest)
    # What was far too large or small says little of how it goes on.
    kbps = aim.kbps * min(4.0, max(0.05, share))
    # In tenths: of few kbit/s a whole one may be more than what is left to use.
    return replace(aim, kbps=max(1.0, int(kbps * 10) / 10))


def least_kbps(mode: Mode) -> int:
    """The smallest bitrate at which a picture can be made out."""
    return max(16, round(float(mode.pixels_per_s) * LEAST_BITS_A_PIXEL / 1000))


def least_mb(mode: Mode, length_s: float) -> float:
    """The smallest size that may be asked for, in MB, rounded up to a tenth."""
    kbps = least_kbps(mode) + SOUND_KBPS[0][0] + _tables_kbps(mode, length_s)
    return -(-kbps * length_s / 8000 / AIM * 10 // 1) / 10


def _tables_kbps(mode: Mode, length_s: float) -> float:
    packets = float(mode.fps) + SOUND_PACKETS_PER_S
    return (packets * PACKET_BYTES + FILE_BYTES / length_s) * 8 / 1000


def picture_settings(order: Export, aim: Aim | None, mode: Mode) -> EncoderSettings:
    """How the picture is encoded; by its own rate control where there is no size to aim at."""
    if aim:
        rate: RateControl = AverageBitrate(aim.kbps, BEST_CRF)
    else:
        rate = rate_control(Rate(order.control, order.crf, order.kbps), mode)
    codecs: dict[str, Codec] = {"webm": "vp9", "av1": "av1"}
    codec = codecs.get(order.kind, "h264")
    # One that was interrupted goes on.
    return EncoderSettings(rate, order.speed, Fraction(2), stitchable=True, codec=codec)


def sound_format(order: Export, aim: Aim | None) -> ProgramFormat:
    """How its sound is encoded."""
    codec = "aac" if order.kind == "mp4" else "opus"
    kbps = aim.sound_kbps if aim else order.sound_kbps
    return ProgramFormat(sound_codec=codec, sound_kbps=kbps)
