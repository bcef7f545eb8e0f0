"""Whether a rig holds together: what no field can say by itself."""

from collections import Counter
from collections.abc import Iterable

from kettle_core.errors import RigError
from kettle_core.rig.devices import Mode
from kettle_core.rig.file_names import check_pattern
from kettle_core.rig.format import LEAST_KBPS, QUALITY, Format, Rate
from kettle_core.rig.rig import Input, Rig
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Scene

LEAST_FPS = 1
LEAST_SAMPLE_RATE_HZ = 8000
OPUS_HZ = 48_000


def check_rig(rig: Rig) -> None:
    """Refuse a rig of which the parts don't fit each other.

    Raises
    ------
    RigError
        With the field's path and what doesn't fit.
    """
    if not rig.inputs:
        raise RigError("A rig needs at least one input; add one.", "inputs")
    if not rig.scenes:
        raise RigError("A rig needs at least one scene; make one.", "scenes")
    for many in ("inputs", "scenes", "spots", "stems"):
        if _has_twice(part.id for part in getattr(rig, many)):
            raise RigError(f"Two {many} of the rig have the same id; each needs its own.", many)
    if _has_twice(s.key for s in rig.scenes if s.key):
        raise RigError("Two scenes have the same key; give each its own.", "scenes")
    for number, item in enumerate(rig.inputs):
        _check_input(item, f"inputs[{number}]")
    _check_devices(rig)
    for number, scene in enumerate(rig.scenes):
        _check_scene(rig, scene, f"scenes[{number}]")
    check_format(rig.format)
    for number, stem in enumerate(rig.stems):
        for send in stem.sends:
            if rig.input(send.input_id).is_picture:
                raise RigError(
                    f"“{send.input_id}” is a picture and cannot go to a stem.",
                    f"stems[{number}]",
                )


def check_format(format_: Format) -> None:
    """Refuse what no encoder or file system could do. Raises RigError with the field's path."""
    check_pattern(format_.files.pattern)
    program = format_.program
    if program.sound_codec == "opus" and program.sample_rate_hz != OPUS_HZ:
        raise RigError(
            "Opus has 48 kHz only. Choose 48 kHz, or AAC for 44.1 kHz.",
            "format.program.sample_rate_hz",
        )
    rates = (("screens", format_.screens), ("webcams", format_.webcams), ("program", program))
    for name, part in rates:
        check_rate(part.rate, f"format.{name}.rate.kbps")


def check_rate(rate: Rate, where: str) -> None:
    """Refuse a bitrate below what an encoder can do. Raises RigError."""
    if rate.control != QUALITY and 0 < rate.kbps < LEAST_KBPS:
        raise RigError(
            f"The bitrate should be at least {LEAST_KBPS} kbit/s, got {rate.kbps}.", where
        )


def _has_twice(names: Iterable[str]) -> bool:
    return max(Counter(names).values(), default=0) > 1


def _check_input(item: Input, where: str) -> None:
    mode = item.mode
    if item.is_picture and (not mode.width or not mode.height):
        raise RigError(f"The picture of “{item.name}” needs a width and a height.", f"{where}.mode")
    if item.is_picture and not item.is_still and not mode.fps:
        raise RigError(f"“{item.name}” needs a frame rate from {LEAST_FPS}.", f"{where}.mode.fps")
    if not item.is_picture and mode.sample_rate_hz < LEAST_SAMPLE_RATE_HZ:
        raise RigError(
            f"“{item.name}” needs a sample rate from {LEAST_SAMPLE_RATE_HZ} Hz.",
            f"{where}.mode.sample_rate_hz",
        )
    if not item.is_picture and not mode.channels:
        raise RigError(f"“{item.name}” needs 1 or 2 channels.", f"{where}.mode.channels")
    if not item.is_still and not item.device.strip():
        raise RigError(f"“{item.name}” needs a device.", f"{where}.device")
    if (item.kind == "picture") != bool(item.still):
        raise RigError(f"“{item.name}” has no picture, or one too many.", f"{where}.still")
    if (item.kind == "text") != bool(item.card):
        raise RigError(f"“{item.name}” has no text card, or one too many.", f"{where}.card")
    if item.track:
        check_rate(item.track.rate, f"{where}.track.rate.kbps")
    crop = item.looks.crop
    if crop and not Box(0, 0, mode.width, mode.height).holds(crop):
        raise RigError(
            f"The crop of “{item.name}” should be inside {mode.width} × {mode.height} px.",
            f"{where}.looks.crop",
        )
    if crop and any(v % 2 for v in (crop.left, crop.top, crop.width, crop.height)):
        raise RigError(
            f"The crop of “{item.name}” should be four even numbers of px.", f"{where}.looks.crop"
        )


def _check_devices(rig: Rig) -> None:
    modes: dict[str, Mode] = {}
    for number, item in enumerate(rig.inputs):
        if item.device and modes.setdefault(item.device, item.mode) != item.mode:
            raise RigError(
                f"“{item.name}” wants another mode of a device that is used already; "
                "a device runs in one mode.",
                f"inputs[{number}].mode",
            )


def _check_scene(rig: Rig, scene: Scene, where: str) -> None:
    if _has_twice(layer.id for layer in scene.layers):
        raise RigError(f"Two layers of “{scene.name}” have the same id.", where)
    for layer in scene.layers:
        source = rig.input(layer.input_id)
        if not source.is_picture:
            raise RigError(f"“{source.name}” is a sound and cannot be a layer.", where)
        if layer.spot and layer.spot not in {s.id for s in rig.spots}:
            raise RigError(f"“{source.name}” sits on a spot that the rig lacks.", where)
        if not Box(0, 0, *source.size).holds(layer.crop):
            raise RigError(f"The crop of “{source.name}” lies outside its picture.", where)
    for sound in scene.sounds:
        if rig.input(sound.input_id).is_picture:
            raise RigError(f"“{sound.input_id}” is a picture and cannot be heard.", where)
