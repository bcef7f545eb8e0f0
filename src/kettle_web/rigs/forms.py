"""Fields of a rig and its patch sheet, with errors in our words."""

from dataclasses import replace
from fractions import Fraction

from django import forms

from kettle_core.rig.format import FRAME_RATES, FRAME_SIZES, Format
from kettle_core.rig.rig import Rig as RigValues
from kettle_web.frame.form_fields import name_field

SIZE_CHOICES = [(f"{w}x{h}", f"{w} × {h} px") for w, h in FRAME_SIZES]

RATE_CHOICES = [
    (rate, f"{float(Fraction(rate)):.5g} fps" + (f" ({rate})" if "/" in rate else ""))
    for rate in FRAME_RATES
]


class RigForm(forms.Form):
    """A new rig."""

    name = name_field(
        "A rig needs a name, so none was made. Type one, such as “Bench rig”.", "Name of the rig"
    )


class FormatForm(forms.Form):
    """Frame size and frame rate of the program."""

    frame_size = forms.ChoiceField(
        choices=SIZE_CHOICES,
        label="Frame size",
        error_messages={
            "invalid_choice": "This frame size is not offered. Choose one of the list."
        },
    )
    fps = forms.ChoiceField(
        choices=RATE_CHOICES,
        label="Frame rate",
        error_messages={
            "invalid_choice": "This frame rate is not offered. Choose one of the list."
        },
    )

    @classmethod
    def of(cls, values: RigValues) -> "FormatForm":
        """The form with a rig's values."""
        size = f"{values.format.frame_width}x{values.format.frame_height}"
        return cls(initial={"frame_size": size, "fps": str(values.format.fps)})

    def to_format(self, before: Format) -> Format:
        """The rig's format with what was chosen."""
        width, height = self.cleaned_data["frame_size"].split("x")
        fps = Fraction(self.cleaned_data["fps"])
        return replace(before, frame_width=int(width), frame_height=int(height), fps=fps)
