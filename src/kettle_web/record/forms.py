"""What a take begins with."""

from typing import Any

from django import forms

from kettle_core.program.running_order import RunningOrder
from kettle_core.rig.rig import Rig
from kettle_web.models import Tutorial


class RecordForm(forms.Form):
    """What a take begins with."""

    countdown_s = forms.IntegerField(
        min_value=0,
        max_value=10,
        initial=3,
        label="Countdown",
        error_messages={
            "required": "The countdown is empty, so nothing was recorded. Type 0 to 10 s.",
            "invalid": "The countdown is a whole number of seconds. Type 0 to 10 s.",
            "min_value": "The countdown can't be below 0 s. Type 0 to 10 s.",
            "max_value": "The countdown is at most 10 s. Type 0 to 10 s.",
        },
    )
    heard = forms.BooleanField(required=False, label="Heard")

    def __init__(
        self, rig: Rig, steps: RunningOrder, data: object = None, scene: str = "", step: str = ""
    ) -> None:
        known = scene if any(s.id == scene for s in rig.scenes) else rig.default_scene.id
        super().__init__(data, initial={"scene": known, "step": step})  # type: ignore[arg-type]
        self.fields["scene"] = forms.ChoiceField(
            choices=[(s.id, s.name) for s in rig.scenes],
            required=False,
            label="Begins with",
            error_messages={
                "invalid_choice": "This scene is gone, so nothing was recorded. Choose another one."
            },
        )
        self.fields["step"] = forms.ChoiceField(
            choices=[("", "the beginning"), *((s.id, s.title) for s in steps.steps)],
            required=False,
            label="From",
            error_messages={
                "invalid_choice": "This step is gone, so nothing was recorded. Choose another one."
            },
        )
        if not steps.steps:
            del self.fields["step"]


class TutorialChoice(forms.Form):
    """What is worked on with the rig."""

    tutorial = forms.ModelChoiceField(
        Tutorial.objects.all(),
        label="Tutorial",
        required=False,
        error_messages={"invalid_choice": "This tutorial is gone. Choose another one."},
    )

    def __init__(self, data: Any = None, now: Tutorial | None = None) -> None:
        super().__init__(data, initial={"tutorial": now})
        # One that has no row yet is made with its first take.
        self.fields["tutorial"].empty_label = None if now and now.pk else Tutorial.UNTITLED  # type: ignore[attr-defined]
