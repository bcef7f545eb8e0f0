"""Fields of forms that several subjects have, with errors in our words."""

from typing import Any

from django import forms

from kettle_core.fields import COLOUR_PATTERN


def number_words(what: str, low: float, high: float, unit: str) -> dict[str, str]:
    """Error sentences of a number's field."""
    allowed = f"Type {low:g} to {high:g} {unit}."
    words = {
        "required": f"The {what} is empty, so it was not changed. {allowed}",
        "invalid": f"The {what} is a number. {allowed}",
        "min_value": f"The {what} can't be below {low:g} {unit}. {allowed}",
        "max_value": f"The {what} can't be above {high:g} {unit}. {allowed}",
    }
    # Django puts the limit into these two by %.
    for name in ("min_value", "max_value"):
        words[name] = words[name].replace("%", "%%")
    return {name: sentence.replace(" -", " −") for name, sentence in words.items()}


DOWNMIX_WORDS = (
    ("stereo", "as they come"),
    ("mid", "to mono: the mean of both"),
    ("sum", "to mono: the sum, −3 dB"),
    ("left", "to mono: left only"),
    ("right", "to mono: right only"),
)


def name_field(missing: str, label: str = "Name") -> forms.CharField:
    """A name; `missing` is said where there is none."""
    too_long = "A name has at most 80 characters. Shorten it."
    words = {"required": missing, "max_length": too_long}
    return forms.CharField(max_length=80, label=label, error_messages=words)


class FileForm(forms.Form):
    """A file to take in."""

    file = forms.FileField(
        label="File",
        error_messages={
            "required": "No file was chosen, so nothing was added. Choose one.",
            "empty": "This file is empty, so nothing was added. Choose another one.",
            "missing": "No file came, so nothing was added. Choose one.",
        },
    )


COLOUR_SENTENCE = "A colour is written as # and six digits, as #1d2b33."


def whole(label: str, what: str, low: int, high: int, unit: str = "px") -> forms.IntegerField:
    """A whole number with its unit; its errors name what it is."""
    widget = forms.NumberInput(attrs={"data-unit": unit})
    words = number_words(what, low, high, unit)
    return forms.IntegerField(
        label=label, min_value=low, max_value=high, widget=widget, error_messages=words
    )


def colour(label: str) -> forms.RegexField:
    """A colour, picked or typed."""
    return forms.RegexField(
        COLOUR_PATTERN,
        label=label,
        widget=forms.TextInput(attrs={"type": "color"}),
        error_messages={"invalid": COLOUR_SENTENCE, "required": COLOUR_SENTENCE},
    )


def decimal(
    label: str, what: str, limits: tuple[float, float], unit: str, step: str = "0.5"
) -> forms.FloatField:
    """A number with its unit; its errors name what it is."""
    low, high = limits
    return forms.FloatField(
        label=label,
        min_value=low,
        max_value=high,
        widget=forms.NumberInput(attrs={"data-unit": unit, "step": step}),
        error_messages=number_words(what, low, high, unit),
    )


def plain(values: dict[str, Any]) -> dict[str, Any]:
    """Numbers without a fraction as whole ones, as people type them."""
    return {
        name: int(v) if isinstance(v, float) and v.is_integer() else v for name, v in values.items()
    }


def percent(label: str, what: str) -> forms.IntegerField:
    """A strength in %."""
    return forms.IntegerField(
        label=label,
        min_value=1,
        max_value=100,
        widget=forms.NumberInput(attrs={"data-unit": "%", "step": "5"}),
        error_messages=number_words(what, 1, 100, "%"),
    )
