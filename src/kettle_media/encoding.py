"""Encoder settings as libav wants them; the one place that knows the encoder's own words."""

import os
from fractions import Fraction
from typing import Any

import av
from av.codec.context import Flags, ThreadType
from av.video.frame import PictureType

from kettle_core.rig.encoder_settings import (
    AverageBitrate,
    ConstantBitrate,
    ConstantQuality,
    EncoderSettings,
)

BT709 = 1
LIMITED_RANGE = 1
_CODECS = {"h264": "libx264", "vp9": "libvpx-vp9", "av1": "libsvtav1"}
# VP9's scale of quality beside that of H.264, and how fast it is at our speeds.
VP9_CRF = 1.45
# Its quick ways take a third of the time of its good ones, for 0.6 dB.
_VP9_SPEEDS = {
    "ultrafast": ("realtime", 8),
    "superfast": ("realtime", 7),
    "veryfast": ("realtime", 6),
    "fast": ("good", 5),
    "medium": ("good", 4),
    "slow": ("good", 2),
}
# AV1's scale of quality, and its presets at our speeds.
AV1_CRF = 1.5
_AV1_SPEEDS = {"ultrafast": 10, "superfast": 10, "veryfast": 9, "fast": 8, "medium": 6, "slow": 4}
# It would tell its whole set-up on the terminal; errors only.
os.environ.setdefault("SVT_LOG", "1")
# Keyframes come by time; the encoder's own count is only to never come before.
_NO_COUNT = 100_000


def open_encoder(
    container: Any,
    settings: EncoderSettings,
    size: tuple[int, int],
    fps: Fraction,
    time_base: Fraction,
) -> Any:
    """Add a picture stream (yuv420p, BT.709, limited range) to an output container."""
    stream = container.add_stream(_CODECS[settings.codec], rate=fps)
    stream.options = _options(settings, None)
    _set_up(stream.codec_context, settings, size, fps, time_base)
    return stream


def encoder(
    settings: EncoderSettings,
    size: tuple[int, int],
    fps: Fraction,
    time_base: Fraction,
    filled: float | None = None,
) -> Any:
    """An encoder by itself, whose packets can follow those of a stream with its settings.

    Where a bitrate is kept at every moment, `filled` says how much of its buffer was left full.
    """
    kind: Any = av.CodecContext
    context = kind.create(_CODECS[settings.codec], "w")
    context.options = _options(settings, filled)
    _set_up(context, settings, size, fps, time_base)
    context.flags |= Flags.global_header
    context.open()
    return context


def _set_up(
    context: Any,
    settings: EncoderSettings,
    size: tuple[int, int],
    fps: Fraction,
    time_base: Fraction,
) -> None:
    context.width, context.height, context.pix_fmt = *size, "yuv420p"
    context.framerate, context.time_base = fps, time_base
    context.thread_count = settings.threads
    # Threads that take a frame each need fewer bits and less time than such as take a part of
    # each, but are some frames behind; what keeps a bitrate must know what the last one took.
    if settings.codec == "h264" and not settings.at_once and settings.rate.kept is None:
        context.thread_type = ThreadType.FRAME
    context.color_primaries = context.color_trc = context.colorspace = BT709
    context.color_range = LIMITED_RANGE


def _options(settings: EncoderSettings, filled: float | None) -> dict[str, str]:
    if settings.codec == "vp9":
        return _vp9_options(settings)
    if settings.codec == "av1":
        return _av1_options(settings)
    rate = settings.rate
    options = {"preset": settings.speed, "g": str(_NO_COUNT), "forced-idr": "1"}
    own = ["open-gop=0"]
    if isinstance(rate, ConstantBitrate):
        options["b"] = f"{rate.kbps}k"
        kbps, buffered = rate.kept
        own += ["nal-hrd=cbr", f"vbv-maxrate={kbps}", f"vbv-bufsize={buffered}"]
    elif isinstance(rate, AverageBitrate):
        options["b"], options["qmin"] = f"{rate.kbps}k", str(rate.best_crf)
    else:
        options["crf"] = str(rate.crf)
        if rate.ceiling_kbps:
            options["maxrate"] = options["bufsize"] = f"{rate.ceiling_kbps}k"
    if settings.at_once:
        options["tune"] = "zerolatency"
    if filled is not None:
        own.append(f"vbv-init={filled:.6f}")
    if settings.stitchable:
        own.append("stitchable=1")
    options["x264-params"] = ":".join(own)
    return options


def _vp9_options(settings: EncoderSettings) -> dict[str, str]:
    rate = settings.rate
    way, speed = _VP9_SPEEDS[settings.speed]
    options = {"deadline": way, "cpu-used": str(speed), "row-mt": "1", "g": str(_NO_COUNT)}
    if isinstance(rate, ConstantQuality):
        # With a bitrate beside it that is the most it takes.
        most = f"{rate.ceiling_kbps}k" if rate.ceiling_kbps else "0"
        return {**options, "crf": str(min(63, round(rate.crf * VP9_CRF))), "b": most}
    kbps = f"{rate.kbps}k"
    if isinstance(rate, ConstantBitrate):
        return {**options, "b": kbps, "minrate": kbps, "maxrate": kbps}
    return {**options, "b": kbps, "qmin": str(rate.best_crf)}


def _av1_options(settings: EncoderSettings) -> dict[str, str]:
    rate = settings.rate
    options = {"preset": str(_AV1_SPEEDS[settings.speed]), "g": str(_NO_COUNT)}
    if isinstance(rate, ConstantQuality):
        most = {"maxrate": f"{rate.ceiling_kbps}k"} if rate.ceiling_kbps else {}
        return {**options, "crf": str(min(63, round(rate.crf * AV1_CRF))), **most}
    best = rate.best_crf if isinstance(rate, AverageBitrate) else 0
    return {**options, "b": f"{rate.kbps}k", "qmin": str(max(1, best)), "svtav1-params": "rc=1"}


class Keyframes:
    """Marks the first frame of every so many seconds of time as a keyframe."""

    def __init__(self, settings: EncoderSettings) -> None:
        self._every_s = settings.keyframe_s
        self._last = -1

    def begin_anew(self) -> None:
        """Have the next frame marked."""
        self._last = -1

    def mark(self, frame: av.VideoFrame, at_s: Fraction) -> None:
        """Mark a frame that is encoded next, by its time from the start."""
        number = at_s // self._every_s
        if number > self._last:
            frame.pict_type = PictureType.I
            self._last = int(number)
