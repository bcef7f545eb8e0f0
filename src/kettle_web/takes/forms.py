"""Forms of the take page: what is changed afterwards."""

from typing import Any

from django import forms

from kettle_core.program.afterwards import MOST_NUDGE_MS
from kettle_core.program.cues import LONGEST_CLOSE_UP_MS, MOST_WORDS
from kettle_core.scene.layout import FARTHEST_PX, Box

TIME_WORDS = "Give a time within the take, in seconds."


class SecondsField(forms.FloatField):
    """A time of the take, in s, pauses closed."""

    def __init__(self, required: bool = True) -> None:
        super().__init__(
            required=required,
            min_value=0,
            widget=forms.HiddenInput,
            error_messages=dict.fromkeys(("required", "invalid", "min_value"), TIME_WORDS),
        )


class MarkForm(forms.Form):
    """A mark, or its words."""

    text = forms.CharField(
        required=False,
        max_length=MOST_WORDS,
        label="Words of the mark",
        widget=forms.TextInput(attrs={"placeholder": "good, again, …"}),
        error_messages={"max_length": f"A mark has at most {MOST_WORDS} characters. Shorten it."},
    )


class CloseUpForm(forms.Form):
    """How near a picture is shown, and whether it goes along with the pointer."""

    times = forms.ChoiceField(
        label="How near",
        choices=(
            ("1.5", "1.5 ×"),
            ("2", "2 ×"),
            ("3", "3 ×"),
            ("px", "1:1"),
            ("drawn", "as drawn"),
        ),
        initial="2",
    )
    left = forms.IntegerField(required=False, min_value=0, max_value=FARTHEST_PX)
    top = forms.IntegerField(required=False, min_value=0, max_value=FARTHEST_PX)
    width = forms.IntegerField(required=False, min_value=1, max_value=FARTHEST_PX)
    height = forms.IntegerField(required=False, min_value=1, max_value=FARTHEST_PX)
    follows = forms.BooleanField(label="Follow the pointer", required=False)
    length_ms = forms.IntegerField(
        label="Eased within",
        initial=400,
        min_value=0,
        max_value=LONGEST_CLOSE_UP_MS,
        error_messages=dict.fromkeys(
            ("required", "invalid", "min_value", "max_value"),
            f"A close-up comes within 0 to {LONGEST_CLOSE_UP_MS} ms.",
        ),
    )

    @property
    def drawn(self) -> Box | None:
        """What was drawn over the program, in px of its frame."""
        sides = [self.cleaned_data[name] for name in ("left", "top", "width", "height")]
        return None if None in sides else Box(*sides)


class PlaceForm(forms.Form):
    """A place of the take, or a stretch of it."""

    at_s = SecondsField()
    until_s = SecondsField(required=False)

    def clean(self) -> dict[str, Any]:
        """Both ends, the first one first."""
        values = super().clean() or self.cleaned_data
        at_s, until_s = values.get("at_s"), values.get("until_s")
        if at_s is not None and until_s is not None and until_s < at_s:
            values["at_s"], values["until_s"] = until_s, at_s
        return values


class LayerForm(forms.Form):
    """Where a layer of a scene lies, in px of the rig's frame, and its turn in degrees."""

    scene = forms.CharField(max_length=MOST_WORDS)
    layer = forms.CharField(max_length=MOST_WORDS)
    left = forms.IntegerField(min_value=-FARTHEST_PX, max_value=FARTHEST_PX)
    top = forms.IntegerField(min_value=-FARTHEST_PX, max_value=FARTHEST_PX)
    width = forms.IntegerField(min_value=1, max_value=FARTHEST_PX)
    height = forms.IntegerField(min_value=1, max_value=FARTHEST_PX)
    turn = forms.FloatField(min_value=-360, max_value=360)

    @property
    def box(self) -> Box:
        """Where it lies, once the form is valid."""
        return Box(*(self.cleaned_data[name] for name in ("left", "top", "width", "height")))


class LayersForm(forms.Form):
    """The place whose layers are wanted."""

    at_s = SecondsField()


class NudgeForm(forms.Form):
    """How much later a track is laid than was measured."""

    ms = forms.FloatField(
        min_value=-MOST_NUDGE_MS,
        max_value=MOST_NUDGE_MS,
        label="Later by",
        error_messages={
            "required": "The correction is empty, so nothing was moved. Type ms.",
            "invalid": "The correction is a number of ms, such as -12.5.",
            "min_value": f"A track is moved by at most {MOST_NUDGE_MS:g} ms.",
            "max_value": f"A track is moved by at most {MOST_NUDGE_MS:g} ms.",
        },
    )


class StripForm(forms.Form):
    """Small pictures: the number of the first, and how far they lie apart in record time."""

    first = forms.IntegerField(min_value=0, max_value=10**9)
    step_ns = forms.IntegerField(min_value=1)


class FineForm(forms.Form):
    """A part of a waveform: from a step on, in record time."""

    first = forms.IntegerField(min_value=0, max_value=10**12)
    step_ns = forms.IntegerField(min_value=1)
    count = forms.IntegerField(min_value=1)
