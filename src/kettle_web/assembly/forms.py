"""Forms of the assembly page: places, speeds, what counts as quiet, versions."""

from typing import Any

from django import forms

from kettle_core.assembly.cut_list import LEAST_PERCENT, MOST_PERCENT
from kettle_core.assembly.quiet import MOST_REST_NS
from kettle_core.sound.quiet import BELOW_DBFS, FOR_S

PLACE_WORDS = "Put the play head on a piece, or mark a stretch."
SPEED_WORDS = f"A speed is {LEAST_PERCENT / 100:g} to {MOST_PERCENT / 100:g} ×. 1 is as recorded."
NAME_WORDS = "A version has a name of 1 to 80 characters."
MOST_REST_MS = MOST_REST_NS // 10**6


def _errors(words: str, *kinds: str) -> dict[str, str]:
    return dict.fromkeys(("required", "invalid", "min_value", "max_value", *kinds), words)


class PlaceForm(forms.Form):
    """A place within a piece, and another one where a stretch is meant; in s of its take."""

    from_piece = forms.CharField(max_length=80)
    from_s = forms.FloatField(min_value=0, max_value=10**6)
    until_piece = forms.CharField(required=False, max_length=80)
    until_s = forms.FloatField(required=False, min_value=0, max_value=10**6)


class SpeedForm(forms.Form):
    """How fast a stretch runs, and what becomes of its sound."""

    speed = forms.FloatField(
        label="Speed",
        initial=2,
        min_value=LEAST_PERCENT / 100,
        max_value=MOST_PERCENT / 100,
        widget=forms.NumberInput(
            attrs={"step": "any", "inputmode": "decimal", "list": "speeds", "data-unit": "×"}
        ),
        error_messages=_errors(SPEED_WORDS),
    )
    sound = forms.ChoiceField(
        label="Its sound",
        choices=(("off", "no sound"), ("stretched", "sound at its pitch")),
        error_messages={"invalid_choice": "Choose what becomes of the sound."},
    )

    @property
    def percent(self) -> int:
        """The speed in whole percent."""
        return round(self.cleaned_data["speed"] * 100)


class QuietForm(forms.Form):
    """What counts as quiet, and what is left of it."""

    below = forms.FloatField(
        label="Below",
        initial=BELOW_DBFS,
        min_value=-90,
        max_value=-10,
        widget=forms.NumberInput(attrs={"step": "1", "data-unit": "dBFS"}),
        error_messages=_errors("A voice is quiet below −90 to −10 dBFS."),
    )
    seconds = forms.FloatField(
        label="For at least",
        initial=FOR_S,
        min_value=0.1,
        max_value=60,
        widget=forms.NumberInput(attrs={"step": "0.1", "data-unit": "s"}),
        error_messages=_errors("A quiet stretch lasts at least 0.1 to 60 s."),
    )
    rest = forms.IntegerField(
        label="Leave",
        initial=300,
        min_value=0,
        max_value=MOST_REST_MS,
        widget=forms.NumberInput(attrs={"step": "50", "data-unit": "ms"}),
        error_messages=_errors(f"Of a pause 0 to {MOST_REST_MS} ms are left, in whole ms."),
    )
    faster = forms.FloatField(
        label="Or run it at",
        initial=4,
        min_value=LEAST_PERCENT / 100,
        max_value=MOST_PERCENT / 100,
        widget=forms.NumberInput(attrs={"step": "any", "list": "speeds", "data-unit": "×"}),
        error_messages=_errors(SPEED_WORDS),
    )

    def as_shown(self) -> dict[str, Any]:
        """Its values, as they are before somebody changed them where they are wrong."""
        self.is_valid()
        return {name: self.cleaned_data.get(name, f.initial) for name, f in self.fields.items()}


class VersionForm(forms.Form):
    """A version's name."""

    name = forms.CharField(
        label="Name of the version",
        max_length=80,
        error_messages=_errors(NAME_WORDS, "max_length"),
    )
