"""The rig as values: inputs, scenes, format."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Annotated

from annotated_types import MaxLen, MultipleOf

from kettle_core.errors import RigError
from kettle_core.fields import (
    Colour,
    ColourOrClear,
    Id,
    Name,
    OneOf,
    OptionalDigest,
    OptionalId,
    Percent,
    Text,
    within,
)
from kettle_core.rig.devices import (
    PICTURE_KINDS,
    SCREEN_KINDS,
    SOUND_KINDS,
    STILL_KINDS,
    VOICE_KINDS,
    DeviceInfo,
    Mode,
)
from kettle_core.rig.format import Format, TrackFormat
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import MAX_SCENES, MAX_SPOTS, ChangeOver, Scene, Spot
from kettle_core.sound.background import Ducking
from kettle_core.sound.routing import MAX_STEMS, Stem
from kettle_core.sound.tone import Tone

TURNS = (0, 90, 180, 270)
FONTS = ("figtree", "source-serif", "jetbrains-mono")
MAX_INPUTS = 64
TEXT_LIMIT = 600
TEXT_SIZE_LIMITS_PX = (12, 400)


@dataclass(frozen=True)
class Looks:
    """How an input's picture is used: `crop` in device px (None: whole), then turned clockwise
    by `turn` degrees, then mirrored. `pointer` and `keys` say what of a display is recorded
    as data. `opacity` in % is that of a picture or text card.
    """

    crop: Box | None = None
    turn: Annotated[int, within(0, 270), MultipleOf(90)] = 0
    mirrored: bool = False
    pointer: bool = True
    keys: bool = True
    opacity: Percent = 100


@dataclass(frozen=True)
class Card:
    """A text card: lines of text on a backdrop; colours as #rrggbb, "" for a clear backdrop."""

    text: Annotated[str, Text(TEXT_LIMIT)]
    font: Annotated[str, OneOf(FONTS)] = "figtree"
    size_px: Annotated[int, within(*TEXT_SIZE_LIMITS_PX)] = 96
    colour: Colour = "#ffffff"
    backdrop: ColourOrClear = "#22333b"


@dataclass(frozen=True)
class Input:
    """Something that is seen or heard. `id` also names its track.

    One that is not `on` is kept with its set-up but neither opened, seen, heard nor recorded.
    A picture has its file's name in the rig's library in `still`, a text card its `card`.
    `track` is how its track is written where that is not as the format says of its kind.
    """

    id: Id
    name: Name
    kind: Annotated[str, OneOf(PICTURE_KINDS + SOUND_KINDS)]
    device: Annotated[str, MaxLen(200)]
    mode: Mode
    recorded: bool = True
    on: bool = True
    looks: Looks = Looks()
    tone: Tone = field(default=Tone())
    still: OptionalDigest = ""
    card: Card | None = None
    track: TrackFormat | None = None

    @property
    def is_picture(self) -> bool:
        """Whether the input is seen rather than heard."""
        return self.kind in PICTURE_KINDS

    @property
    def is_still(self) -> bool:
        """Whether it is a picture or text card: nothing to open, nothing to record."""
        return self.kind in STILL_KINDS

    @property
    def is_screen(self) -> bool:
        """Whether it has a pointer, keys or touches."""
        return self.kind in SCREEN_KINDS

    @property
    def is_captured(self) -> bool:
        """Whether it is on and comes from a device."""
        return self.on and not self.is_still

    @property
    def has_track(self) -> bool:
        """Whether a take records it."""
        return self.recorded and self.is_captured

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of its picture in px after crop and turn; (0, 0) for a sound."""
        crop = self.looks.crop
        width, height = (crop.width, crop.height) if crop else (self.mode.width, self.mode.height)
        return (height, width) if self.looks.turn in (90, 270) else (width, height)

    @property
    def used_mode(self) -> Mode:
        """The mode as it is used: a picture's size is that after crop and turn."""
        if not self.is_picture:
            return self.mode
        return Mode(*self.size, self.mode.fps)


@dataclass(frozen=True)
class Rig:
    """Everything that is set up once and used again."""

    name: Name
    inputs: Annotated[tuple[Input, ...], MaxLen(MAX_INPUTS)]
    scenes: Annotated[tuple[Scene, ...], MaxLen(MAX_SCENES)]
    format: Format
    spots: Annotated[tuple[Spot, ...], MaxLen(MAX_SPOTS)] = ()
    change_over: ChangeOver = field(default=ChangeOver())
    default_scene_id: OptionalId = ""
    stems: Annotated[tuple[Stem, ...], MaxLen(MAX_STEMS)] = ()
    ducking: Ducking = field(default=Ducking())

    @property
    def default_scene(self) -> Scene:
        """The scene that a take begins with: the chosen one, or the first."""
        return next((s for s in self.scenes if s.id == self.default_scene_id), self.scenes[0])

    def scene(self, scene_id: str) -> Scene:
        """The scene of an id. Raises RigError."""
        for candidate in self.scenes:
            if candidate.id == scene_id:
                return candidate
        raise RigError(f"The rig has no scene “{scene_id}”.", "scene")

    def change_over_to(self, scene: Scene) -> ChangeOver:
        """How a scene comes in: its own way, or the rig's."""
        return scene.change_over or self.change_over

    def input(self, input_id: str) -> Input:
        """The input of an id. Raises RigError."""
        for candidate in self.inputs:
            if candidate.id == input_id:
                return candidate
        raise RigError(f"The rig has no input “{input_id}”.", "inputs")

    def track_of(self, item: Input) -> TrackFormat:
        """How an input's track is written: by its own format, or as those of its kind."""
        return item.track or (self.format.screens if item.is_screen else self.format.webcams)

    def track_mode(self, item: Input) -> Mode:
        """The mode of an input's track, as it is written."""
        return self.track_of(item).written(item.used_mode) if item.is_picture else item.mode

    def voice_in(self, scene: Scene) -> Input | None:
        """The first microphone heard in a scene, or None: then the scene has no voice."""
        heard = {sound.input_id for sound in scene.sounds if sound.heard}
        for candidate in self.inputs:
            if candidate.kind in VOICE_KINDS and candidate.on and candidate.id in heard:
                return candidate
        return None

    def seen_in(self, scene: Scene) -> Scene:
        """The scene with what is really seen and heard of it: shown, heard and on."""
        on = {i.id for i in self.inputs if i.on}
        return replace(
            scene,
            layers=tuple(x for x in scene.layers if x.shown and x.input_id in on),
            sounds=tuple(x for x in scene.sounds if x.heard and x.input_id in on),
        )


def input_of_device(device: DeviceInfo, input_id: str) -> Input:
    """An input of a device at its largest mode."""
    return Input(input_id, device.name, device.kind, device.id, device.largest_mode)


def unused_id(wanted: str, taken: Sequence[str]) -> str:
    """An id of a-z, 0-9 and - made from a text, with a number where it is taken.

    >>> unused_id("Desk Webcam!", ["desk-webcam"]), unused_id("７", [])
    ('desk-webcam-2', 'input')
    """
    letters = "".join(c if c.isascii() and c.isalnum() else "-" for c in wanted.lower())
    base = "-".join(part for part in letters.split("-") if part)[:34].lstrip("0123456789-")
    base = base or "input"
    number, found = 2, base
    while found in taken:
        found, number = f"{base}-{number}", number + 1
    return found
