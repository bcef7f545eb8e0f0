"""Fields of an input's page; each form is saved by itself, errors stand at the field."""

import re
from collections.abc import Sequence
from typing import Any

from django import forms

from kettle_core.fields import COLOUR_PATTERN
from kettle_core.rig.devices import DeviceInfo, Mode
from kettle_core.rig.rig import TEXT_LIMIT, TEXT_SIZE_LIMITS_PX, TURNS, Input
from kettle_core.scene.region import PRESETS
from kettle_core.sound.voice_level import DELAY_LIMITS_MS, GAIN_LIMITS_DB
from kettle_web.frame.form_fields import DOWNMIX_WORDS, name_field, number_words

FONT_WORDS = (
    ("figtree", "Figtree"),
    ("source-serif", "Source Serif"),
    ("jetbrains-mono", "JetBrains Mono"),
)

MOST_PX = 7680

OWN_SOUND_WORDS = (
    ("off", "Off"),
    ("reference", "Kept as sync reference: recorded, heard in no scene"),
)


class NameForm(forms.Form):
    """A name, edited in place."""

    name = name_field("An input needs a name, so the old one was kept. Type one.")


class OnForm(forms.Form):
    """On or off; off keeps the set-up."""

    on = forms.BooleanField(required=False, label="On")


class CaptureForm(forms.Form):
    """What of a display is recorded: whole, a region, a window or a tab."""

    what = forms.ChoiceField(label="What is recorded", widget=forms.RadioSelect)

    def __init__(self, *args: Any, choices: Sequence[tuple[str, str]], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        field = self.fields["what"]
        field.choices = choices  # type: ignore[attr-defined]
        field.error_messages["invalid_choice"] = (
            "This is not there any more, so nothing was changed. Choose one of the list."
        )


class ModeForm(forms.Form):
    """One of a device's modes."""

    mode = forms.CharField(label="Mode")

    def __init__(self, *args: Any, device: DeviceInfo | None, item: Input, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.device, self.item = device, item
        modes = device.modes if device else (item.mode,)
        self.modes = {mode_key(m): m for m in modes}
        words = [(key, mode.in_words()) for key, mode in self.modes.items()]
        if mode_key(item.mode) not in self.modes:
            words.insert(0, (mode_key(item.mode), f"{item.mode.in_words()} (not offered now)"))
        self.fields["mode"].widget = forms.Select(choices=words)

    def clean_mode(self) -> Mode:
        """A mode of the device; more than it has is refused."""
        key = self.cleaned_data["mode"]
        if key in self.modes:
            return self.modes[key]
        name = self.device.name if self.device else self.item.name
        largest = self.device.largest_mode if self.device else self.item.mode
        raise forms.ValidationError(
            f"{name} has no such mode, so the old one was kept. The most it can do is "
            f"{largest.in_words()}; asking for more would only blur."
        )


def mode_key(mode: Mode) -> str:
    """A mode as a field's value."""
    if mode.width:
        return f"{mode.width}x{mode.height}@{mode.fps}"
    return f"{mode.sample_rate_hz}x{mode.channels}"


class LooksForm(forms.Form):
    """Turn and mirror."""

    turn = forms.TypedChoiceField(
        choices=[(str(t), f"{t}°") for t in TURNS],
        coerce=int,
        label="Turned clockwise by",
        error_messages={"invalid_choice": "A picture is turned by 0, 90, 180 or 270°."},
    )
    mirrored = forms.BooleanField(required=False, label="Mirrored")


class RegionForm(forms.Form):
    """A region or crop in px of the picture as it is seen."""

    left = forms.IntegerField(
        min_value=-MOST_PX,
        max_value=MOST_PX,
        label="Left, px",
        error_messages=number_words("left edge", 0, MOST_PX, "px"),
    )
    top = forms.IntegerField(
        min_value=-MOST_PX,
        max_value=MOST_PX,
        label="Top, px",
        error_messages=number_words("top edge", 0, MOST_PX, "px"),
    )
    width = forms.IntegerField(
        min_value=2,
        max_value=MOST_PX,
        label="Width, px",
        error_messages=number_words("width", 2, MOST_PX, "px"),
    )
    height = forms.IntegerField(
        min_value=2,
        max_value=MOST_PX,
        label="Height, px",
        error_messages=number_words("height", 2, MOST_PX, "px"),
    )
    keep_aspect = forms.BooleanField(required=False, label="Keep the aspect ratio")
    preset = forms.ChoiceField(
        required=False,
        label="Preset size",
        choices=[("", "own size"), *((f"{w}x{h}", f"{w} × {h} px") for w, h in PRESETS)],
    )


class CropForm(forms.Form):
    """Whether a webcam's picture is cropped at all."""

    cropped = forms.BooleanField(required=False, label="Cropped")


class EventsForm(forms.Form):
    """What of a screen is recorded as data."""

    pointer = forms.BooleanField(required=False, label="Pointer, clicks and touches")
    keys = forms.BooleanField(required=False, label="Keys")


class ToneForm(forms.Form):
    """Gain, downmix and delay of a sound."""

    gain_db = forms.FloatField(
        min_value=GAIN_LIMITS_DB[0],
        max_value=GAIN_LIMITS_DB[1],
        label="Gain, dB",
        widget=forms.NumberInput(attrs={"step": "0.5"}),
        error_messages=number_words("gain", *GAIN_LIMITS_DB, "dB"),
    )
    delay_ms = forms.FloatField(
        min_value=DELAY_LIMITS_MS[0],
        max_value=DELAY_LIMITS_MS[1],
        label="Delay, ms",
        widget=forms.NumberInput(attrs={"step": "1"}),
        error_messages=number_words("delay", *DELAY_LIMITS_MS, "ms"),
    )
    downmix = forms.ChoiceField(choices=DOWNMIX_WORDS, label="Channels", required=False)


class OwnSoundForm(forms.Form):
    """What becomes of a webcam's own microphone."""

    own_sound = forms.ChoiceField(
        choices=OWN_SOUND_WORDS, label="Its own microphone", widget=forms.RadioSelect
    )


class CardForm(forms.Form):
    """A text card."""

    text = forms.CharField(
        max_length=TEXT_LIMIT,
        label="Text",
        widget=forms.Textarea(attrs={"rows": 3}),
        error_messages={
            "required": "A text card needs text, so the old one was kept. Type some.",
            "max_length": f"A text card holds at most {TEXT_LIMIT} characters. Shorten it.",
        },
    )
    font = forms.ChoiceField(choices=FONT_WORDS, label="Font")
    size_px = forms.IntegerField(
        min_value=TEXT_SIZE_LIMITS_PX[0],
        max_value=TEXT_SIZE_LIMITS_PX[1],
        label="Size, px",
        error_messages=number_words("size", *TEXT_SIZE_LIMITS_PX, "px"),
    )
    colour = forms.CharField(label="Colour", widget=forms.TextInput(attrs={"type": "color"}))
    backdrop = forms.CharField(label="Backdrop", widget=forms.TextInput(attrs={"type": "color"}))
    clear = forms.BooleanField(required=False, label="No backdrop")

    def _colour(self, name: str) -> str:
        value = str(self.cleaned_data[name]).lower()
        if not re.fullmatch(COLOUR_PATTERN, value):
            raise forms.ValidationError("A colour is written as # and six digits, as #1d2b33.")
        return value

    def clean_colour(self) -> str:
        """The text's colour."""
        return self._colour("colour")

    def clean_backdrop(self) -> str:
        """The backdrop's colour."""
        return self._colour("backdrop")


class OpacityForm(forms.Form):
    """How opaque a picture or text card is."""

    opacity = forms.IntegerField(
        min_value=0,
        max_value=100,
        label="Opacity, %",
        error_messages=number_words("opacity", 0, 100, "%"),
    )


class StillForm(forms.Form):
    """Which picture of the rig's library an input shows."""

    digest = forms.ChoiceField(
        label="Picture of the library",
        error_messages={
            "invalid_choice": "This picture is not in the rig's library, so the old one was kept."
        },
    )

    def __init__(self, *args: Any, choices: Sequence[tuple[str, str]], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["digest"].choices = choices  # type: ignore[attr-defined]
