"""Fields of the format, with errors in our words."""

from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from typing import Any

from django import forms

from kettle_core.errors import RigError
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import usual_kbps
from kettle_core.rig.file_names import check_pattern
from kettle_core.rig.format import (
    CEILING,
    CONSTANT,
    FRAME_RATES,
    KEYFRAMES_S,
    LEAST_CRF,
    LEAST_KBPS,
    MOST_CRF,
    MOST_KBPS,
    QUALITY,
    SCALES,
    FilesFormat,
    Format,
    ProgramFormat,
    Rate,
    TrackFormat,
)
from kettle_web.frame.form_fields import whole

CONTROLS = (
    (QUALITY, "constant quality"),
    (CEILING, "bitrate with a ceiling"),
    (CONSTANT, "constant bitrate"),
)
SPEED_WORDS = (
    ("ultrafast", "least work"),
    ("superfast", "little work"),
    ("veryfast", "some work"),
    ("fast", "more work"),
    ("medium", "much work"),
    ("slow", "most work"),
)
SCALING_WORDS = (
    ("area", "area: even, print stays legible"),
    ("bicubic", "bicubic: a little sharper"),
    ("lanczos", "Lanczos: sharpest, rings at edges"),
)
NOT_OFFERED = "This is not offered. Choose one of the list."


def rate_words(rate: str) -> str:
    """A frame rate as people read it.

    >>> rate_words("30000/1001"), rate_words("25")
    ('29.97 fps (30000/1001)', '25 fps')
    """
    return f"{float(Fraction(rate)):.5g} fps" + (f" ({rate})" if "/" in rate else "")


RATE_CHOICES = [(rate, rate_words(rate)) for rate in FRAME_RATES]
TRACK_RATES = [("0", "as it comes"), *((r, f"{float(Fraction(r)):.5g} fps") for r in FRAME_RATES)]
SCALE_WORDS = [("1", "whole"), *((s, s.replace("/", " ⁄ ")) for s in SCALES[1:])]


def choice(label: str, choices: Any) -> forms.ChoiceField:
    """One of a list."""
    words = {"invalid_choice": NOT_OFFERED, "required": NOT_OFFERED}
    return forms.ChoiceField(label=label, choices=choices, error_messages=words)


def kbps_field(label: str, least: int, most: int, empty: bool = False) -> forms.IntegerField:
    """A bitrate; `empty` is allowed where it then follows from the size."""
    field = whole(label, "bitrate", least, most, "kbit/s")
    field.required = not empty
    return field


class PictureForm(forms.Form):
    """Frame size and rate of the program, and how pictures are scaled into it."""

    frame_width = whole("Width", "width", 64, 7680)
    frame_height = whole("Height", "height", 64, 4320)
    fps = choice("Frame rate", RATE_CHOICES)
    scaling = choice("Scaling", SCALING_WORDS)

    def clean_frame_width(self) -> int:
        """Even, as chroma has half the columns."""
        return self._even("frame_width", "width")

    def clean_frame_height(self) -> int:
        """Even, as chroma has half the rows."""
        return self._even("frame_height", "height")

    def _even(self, name: str, what: str) -> int:
        size = int(self.cleaned_data[name])
        if size % 2:
            raise forms.ValidationError(
                f"The {what} is an even number of px, so {size} can't be. "
                f"Type {size - 1} or {size + 1}."
            )
        return size

    @classmethod
    def of(cls, values: Format) -> "PictureForm":
        """The form with a format's values."""
        shown = {n: getattr(values, n) for n in ("frame_width", "frame_height", "scaling")}
        return cls(initial={**shown, "fps": str(values.fps)}, auto_id="picture-%s")

    def to_format(self, before: Format) -> Format:
        """The format with what was set."""
        data = self.cleaned_data
        return replace(before, **{**data, "fps": Fraction(data["fps"])})


class RateForm(forms.Form):
    """Rate control, encoder speed, keyframes: of a track and of the program."""

    control = choice("Rate control", CONTROLS)
    crf = whole("CRF", "quality (CRF)", LEAST_CRF, MOST_CRF, "")
    kbps = kbps_field("kbit/s", LEAST_KBPS, MOST_KBPS, empty=True)
    speed = choice("Encoder", SPEED_WORDS)
    keyframe_s = choice("Keyframe", [(s, f"{float(Fraction(s)):g} s") for s in KEYFRAMES_S])

    @staticmethod
    def values_of(part: TrackFormat | ProgramFormat) -> dict[str, Any]:
        """What the fields show."""
        rate = part.rate
        return {
            "control": rate.control,
            "crf": rate.crf,
            "kbps": rate.kbps or "",
            "speed": part.speed,
            "keyframe_s": str(part.keyframe_s),
        }

    @property
    def control_shown(self) -> str:
        """Which control is chosen, in what was sent or in what is kept."""
        return str(self["control"].value())

    @property
    def uses_crf(self) -> bool:
        """Whether a quality is set."""
        return self.control_shown != CONSTANT

    @property
    def uses_kbps(self) -> bool:
        """Whether a bitrate is set."""
        return self.control_shown != QUALITY

    def hint(self, mode: Mode) -> None:
        """Show in the empty bitrate what it then is."""
        self.fields["kbps"].widget.attrs["placeholder"] = str(usual_kbps(mode))

    def set_values(self) -> dict[str, Any]:
        """What was set, by the names of the values."""
        data = self.cleaned_data
        return {
            "rate": Rate(data["control"], data["crf"], data["kbps"] or 0),
            "speed": data["speed"],
            "keyframe_s": Fraction(data["keyframe_s"]),
        }


class TrackForm(RateForm):
    """How tracks of pictures are written."""

    scale = choice("Size", SCALE_WORDS)
    fps = choice("Rate", TRACK_RATES)

    @classmethod
    def of(cls, values: TrackFormat, place: str) -> "TrackForm":
        """The form with a track's format."""
        shown = {**cls.values_of(values), "scale": str(values.scale), "fps": str(values.fps)}
        return cls(initial=shown, auto_id=f"{place}-%s")

    @property
    def cells(self) -> list[dict[str, Any]]:
        """Its fields in the order of the table, which lie in no form; idle ones are not shown."""
        idle = {"crf": not self.uses_crf, "kbps": not self.uses_kbps}
        names = ("scale", "fps", "control", "crf", "kbps", "speed", "keyframe_s")
        for name in names:
            place = str(self.auto_id).replace("-%s", "")
            self.fields[name].widget.attrs["form"] = f"track-{place}"
        return [{"field": self[name], "idle": idle.get(name, False)} for name in names]

    def to_track(self) -> TrackFormat:
        """The format that was set."""
        data = self.cleaned_data
        scale, fps = Fraction(data["scale"]), Fraction(data["fps"])
        return TrackFormat(**self.set_values(), scale=scale, fps=fps)


class ProgramForm(RateForm):
    """How the program is encoded, with its sound."""

    sound_codec = choice("Sound", (("aac", "AAC"), ("opus", "Opus")))
    sound_kbps = kbps_field("Sound, kbit/s", 32, 512)
    sample_rate_hz = choice("Sample rate", ((48_000, "48 kHz"), (44_100, "44.1 kHz")))
    channels = choice("Channels", ((2, "stereo"), (1, "mono")))

    @classmethod
    def of(cls, values: ProgramFormat) -> "ProgramForm":
        """The form with a program's format."""
        names = ("sound_codec", "sound_kbps", "sample_rate_hz", "channels")
        shown = {**cls.values_of(values), **{n: getattr(values, n) for n in names}}
        return cls(initial=shown, auto_id="program-%s")

    def clean(self) -> dict[str, Any]:
        """Opus has one sample rate only."""
        data: dict[str, Any] = super().clean() or {}
        if data.get("sound_codec") == "opus" and data.get("sample_rate_hz") == "44100":
            self.add_error("sample_rate_hz", "Opus has 48 kHz only. Choose 48 kHz, or AAC.")
        return data

    def to_program(self) -> ProgramFormat:
        """The format that was set."""
        data = self.cleaned_data
        return ProgramFormat(
            **self.set_values(),
            sound_codec=data["sound_codec"],
            sound_kbps=data["sound_kbps"],
            sample_rate_hz=int(data["sample_rate_hz"]),  # type: ignore[arg-type]
            channels=int(data["channels"]),  # type: ignore[arg-type]
        )


class FilesForm(forms.Form):
    """Where takes lie, what they are called, and what is made of their tracks."""

    root = forms.ChoiceField(
        label="Folder",
        required=False,
        error_messages={
            "invalid_choice": "Takes may not lie in this folder. Choose one of the list."
        },
    )
    pattern = forms.CharField(
        label="Name",
        max_length=200,
        error_messages={
            "required": "The name pattern is empty, so it was not changed. Type one, such as "
            "{rig}-{date}-take-{take}.",
            "max_length": "The name pattern has at most 200 characters. Shorten it.",
            "null_characters_not_allowed": "No name can have such a character.",
        },
    )
    sound_codec = choice("Sound tracks", (("flac", "FLAC, 24 bits"), ("pcm24", "PCM, 24 bits")))

    @classmethod
    def of(
        cls, values: FilesFormat, roots: Sequence[tuple[str, str]], data: Any = None
    ) -> "FilesForm":
        """The form with a format's values, or with what was sent."""
        made = cls(data, initial=dict(vars(values)), auto_id="files-%s")
        made.fields["root"].choices = roots  # type: ignore[attr-defined]
        return made

    def clean_pattern(self) -> str:
        """A pattern that can name files."""
        pattern = str(self.cleaned_data["pattern"])
        try:
            check_pattern(pattern)
        except RigError as error:
            raise forms.ValidationError(str(error)) from error
        return pattern

    def to_files(self) -> FilesFormat:
        """What was set."""
        return FilesFormat(**self.cleaned_data)


class CostForm(forms.Form):
    """What the facts are worked out for: a length, a size, a line."""

    minutes = whole("Length", "length", 1, 1440, "min")
    size_mb = whole("Size", "size", 1, 1_000_000, "MB")
    line_mbps = whole("Line", "line", 1, 10_000, "Mbit/s")
