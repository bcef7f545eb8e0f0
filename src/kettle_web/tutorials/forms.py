"""Forms of a tutorial's page."""

import re
from typing import Any

from django import forms

from kettle_core.program.running_order import (
    LONGEST_S,
    MOST_NOTES,
    MOST_TITLE,
    OrderStep,
)

_TIME = re.compile(r"(\d{1,3})(?::([0-5]\d))?")
TIME_WORDS = "A target time is written as minutes and seconds, such as 3:30, or as minutes."
MOST_OUTLINE, MOST_DESCRIPTION = 200_000, 2_000


class TargetField(forms.Field):
    """A time as m:ss, or as minutes; in s, 0 for none."""

    def __init__(self) -> None:
        widget = forms.TextInput(attrs={"inputmode": "numeric", "size": 5, "maxlength": 6})
        super().__init__(label="Target time", required=False, widget=widget)

    def to_python(self, value: Any) -> int:
        """Seconds of a text."""
        text = str(value or "").strip()
        if not text:
            return 0
        match = _TIME.fullmatch(text)
        if not match:
            raise forms.ValidationError(TIME_WORDS)
        seconds = int(match[1]) * 60 + int(match[2] or 0)
        if seconds > LONGEST_S:
            raise forms.ValidationError(f"A step takes at most {LONGEST_S // 3600} hours.")
        return seconds

    def prepare_value(self, value: Any) -> Any:
        """Seconds as m:ss."""
        if isinstance(value, int):
            return f"{value // 60}:{value % 60:02d}" if value else ""
        return value


class StepForm(forms.Form):
    """A step of the running order."""

    title = forms.CharField(
        max_length=MOST_TITLE,
        label="Step",
        error_messages={
            "required": "A step needs a title. Type one, or delete the step.",
            "max_length": f"A title has at most {MOST_TITLE} characters. Shorten it.",
        },
    )
    target_s = TargetField()
    scene = forms.CharField(required=False, label="Begins with")
    notes = forms.CharField(
        required=False,
        max_length=MOST_NOTES,
        label="Notes",
        widget=forms.Textarea(attrs={"rows": 2}),
        error_messages={"max_length": f"Notes have at most {MOST_NOTES} characters. Shorten them."},
    )

    def __init__(
        self, data: Any = None, *, step: OrderStep | None = None, scenes: list[str]
    ) -> None:
        known = vars(step) if step else {}
        super().__init__(data, prefix=None, initial=known, auto_id=f"{known.get('id', 'new')}-%s")
        chosen = known.get("scene", "")
        names = [*scenes, *([chosen] if chosen and chosen not in scenes else [])]
        choices = [("", "the scene that is there"), *((name, name) for name in names)]
        self.fields["scene"].widget = forms.Select(choices=choices)

    def step(self, step_id: str) -> OrderStep:
        """The step as it was typed."""
        values = self.cleaned_data
        notes = values["notes"].replace("\r\n", "\n").strip()
        return OrderStep(step_id, values["title"], notes, values["target_s"], values["scene"][:80])


class OutlineForm(forms.Form):
    """An outline, pasted."""

    outline = forms.CharField(
        max_length=MOST_OUTLINE,
        strip=False,
        label="A line each step, indented notes, minutes in brackets",
        widget=forms.Textarea(attrs={"rows": 8, "spellcheck": "true"}),
        error_messages={
            "required": "The outline is empty. Type a line for each step.",
            "max_length": "The outline is too long for a running order. Paste a part of it.",
        },
    )


class DescriptionForm(forms.Form):
    """What a tutorial shows."""

    description = forms.CharField(
        required=False,
        max_length=MOST_DESCRIPTION,
        label="What it shows, and for whom",
        widget=forms.Textarea(attrs={"rows": 2}),
        error_messages={
            "max_length": f"A description has at most {MOST_DESCRIPTION} characters. Shorten it."
        },
    )

    def clean_description(self) -> str:
        """With lines as they are kept everywhere."""
        return str(self.cleaned_data["description"]).replace("\r\n", "\n")


class TutorialForm(forms.Form):
    """A tutorial's name."""

    name = forms.CharField(
        max_length=120,
        label="Name",
        error_messages={
            "required": "A tutorial needs a name. Type one.",
            "max_length": "A name has at most 120 characters. Shorten it.",
        },
    )
