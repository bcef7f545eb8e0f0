"""Fields of the drawing table; each form is saved by itself, errors stand at the field."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any

from annotated_types import MaxLen
from django import forms

from kettle_core.errors import RigError
from kettle_core.fields import Id, within
from kettle_core.scene.layout import Box
from kettle_core.scene.placing import MOST_PX
from kettle_core.scene.scene import LONGEST_CHANGE_MS, MAX_LAYERS, MOST_EDGE_PX
from kettle_media.documents import Document
from kettle_web.frame.form_fields import colour, name_field, number_words, whole

SHAPE_WORDS = (
    ("rectangle", "Rectangle"),
    ("circle", "Circle"),
    ("ellipse", "Ellipse"),
    ("picture", "Picture"),
)

CHANGE_WORDS = (("cut", "Cut"), ("crossfade", "Crossfade"), ("glide", "Glide"))

RIGS_WAY = ""


class SceneForm(forms.Form):
    """A scene's name and key."""

    name = name_field("A scene needs a name, so the old one was kept. Type one.")
    key = forms.RegexField(
        "^[0-9]?$",
        required=False,
        label="Key",
        widget=forms.TextInput(attrs={"maxlength": 1, "size": 1}),
        error_messages={"invalid": "A scene's key is a digit, 0 to 9, so the old one was kept."},
    )


class ChangeOverForm(forms.Form):
    """How a scene comes in; "" is the rig's way."""

    kind = forms.ChoiceField(
        required=False,
        label="How a scene comes in",
        widget=forms.Select(attrs={"aria-label": "How a scene comes in"}),
    )
    length_ms = whole("Length", "length", 0, LONGEST_CHANGE_MS, "ms")

    def __init__(self, *args: Any, rigs_way: str = "", **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        first = [(RIGS_WAY, f"as the rig: {rigs_way}")] if rigs_way else []
        self.fields["kind"].choices = [*first, *CHANGE_WORDS]  # type: ignore[attr-defined]


class PlaceForm(forms.Form):
    """Exact place, size, turn and opacity of a layer."""

    left = whole("Left", "left edge", -MOST_PX, MOST_PX)
    top = whole("Top", "top edge", -MOST_PX, MOST_PX)
    width = whole("Width", "width", 1, MOST_PX)
    height = whole("Height", "height", 1, MOST_PX)
    turn = forms.FloatField(
        label="Turn",
        min_value=-360,
        max_value=360,
        widget=forms.NumberInput(attrs={"data-unit": "°", "step": "0.1"}),
        error_messages=number_words("turn", -360, 360, "°"),
    )
    opacity = whole("Opacity", "opacity", 0, 100, "%")
    keep_aspect = forms.BooleanField(required=False, label="Keep the aspect ratio")


class CutForm(forms.Form):
    """What is cut off a layer's picture at each side, in its own px."""

    left = whole("Left", "cut at the left", 0, MOST_PX)
    top = whole("Top", "cut at the top", 0, MOST_PX)
    right = whole("Right", "cut at the right", 0, MOST_PX)
    bottom = whole("Bottom", "cut at the bottom", 0, MOST_PX)


class MaskForm(forms.Form):
    """Shape, edge, border and shadow of a layer."""

    shape = forms.ChoiceField(choices=SHAPE_WORDS, label="Shape", widget=forms.RadioSelect)
    radius_px = whole("Corners", "corner radius", 0, 4000)
    soft_px = whole("Soft edge", "soft edge", 0, MOST_EDGE_PX)
    border_px = whole("Border", "border", 0, MOST_EDGE_PX)
    border_colour = colour("Its colour")
    shadow_px = whole("Shadow", "shadow", 0, MOST_EDGE_PX)
    shadow_percent = whole("Its depth", "shadow's depth", 0, 100, "%")
    still = forms.ChoiceField(
        required=False,
        label="Picture of the mask",
        error_messages={
            "invalid_choice": "This picture is not in the rig's library, so the old one was kept."
        },
    )

    def __init__(self, *args: Any, stills: Sequence[tuple[str, str]], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["still"].choices = [("", "none"), *stills]  # type: ignore[attr-defined]

    def clean(self) -> dict[str, Any]:
        """A mask that is a picture needs one; the first of the library is taken."""
        data = super().clean() or self.cleaned_data
        choices = self.fields["still"].choices  # type: ignore[attr-defined]
        if data.get("shape") == "picture" and not data.get("still"):
            if len(choices) < 2:
                raise forms.ValidationError(
                    {
                        "shape": "The rig's library has no picture yet, so the shape was kept. "
                        "Choose a black-and-white picture below."
                    }
                )
            data["still"] = choices[1][0]
        if data.get("shape") != "picture":
            data["still"] = ""
        return data


class ColourKeyForm(forms.Form):
    """A plain backdrop taken out."""

    on = forms.BooleanField(required=False, label="Take a plain backdrop out")
    colour = colour("Key colour")
    tolerance = whole("Tolerance", "tolerance", 0, 100, "%")
    softness = whole("Softness", "softness", 0, 100, "%")
    spill = whole("Spill", "spill", 0, 100, "%")


class NewSceneForm(forms.Form):
    """A starting layout and the inputs for it."""

    layout = forms.ChoiceField(required=False)
    screen = forms.ChoiceField(required=False, label="Screen")
    camera = forms.ChoiceField(required=False, label="Camera")
    third = forms.ChoiceField(required=False, label="Third")
    fourth = forms.ChoiceField(required=False, label="Fourth")

    def __init__(
        self,
        *args: Any,
        layouts: Sequence[tuple[str, str]],
        inputs: Sequence[tuple[str, str]],
        **kwargs: Any,
    ) -> None:
        super().__init__(*args, **kwargs)
        self.fields["layout"].choices = [("", "Empty"), *layouts]  # type: ignore[attr-defined]
        for name in ("screen", "camera", "third", "fourth"):
            self.fields[name].choices = [("", "none"), *inputs]  # type: ignore[attr-defined]


@dataclass(frozen=True)
class Placement:
    """Where a layer was dragged to, as the drawing table says it."""

    id: Id
    box: Box
    crop: Box
    turn: Annotated[float, within(-3600, 3600)]


PLACEMENTS: Document[tuple[Placement, ...]] = Document(
    Annotated[tuple[Placement, ...], MaxLen(MAX_LAYERS)], "The layers’ new places", RigError
)
