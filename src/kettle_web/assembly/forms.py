"""Forms of the assembly page: places, speeds, what counts as quiet, versions."""

from collections.abc import Iterable
from typing import Any

from django import forms

from kettle_core.assembly.beds import BEDS
from kettle_core.assembly.cut_list import (
    LEAST_PERCENT,
    MOST_CARD_NS,
    MOST_FADE_MS,
    MOST_PERCENT,
    AddedFile,
    Music,
)
from kettle_core.assembly.quiet import MOST_REST_NS
from kettle_core.program.cues import MOST_WORDS
from kettle_core.rig.rig import TEXT_LIMIT, TEXT_SIZE_LIMITS_PX, Card
from kettle_core.sound.quiet import BELOW_DBFS, FOR_S
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.rig.intake import ENDINGS

PLACE_WORDS = "Put the play head on a piece, or mark a stretch."
SPEED_WORDS = f"A speed is {LEAST_PERCENT / 100:g} to {MOST_PERCENT / 100:g} ×. 1 is as recorded."
CARD_WORDS = f"A card says 1 to {TEXT_LIMIT} characters."
FADE_WORDS = f"A fade takes 0 to {MOST_FADE_MS} ms, in whole ms."
COLOUR = r"^#[0-9a-fA-F]{6}$"
CHAPTER_WORDS = f"A chapter has a name of 1 to {MOST_WORDS} characters."
NAME_WORDS = "A version has a name of 1 to 80 characters."
MOST_REST_MS = MOST_REST_NS // 10**6


def errors_of(words: str, *kinds: str) -> dict[str, str]:
    """The same words for whatever is wrong with a field."""
    return dict.fromkeys(("required", "invalid", "min_value", "max_value", *kinds), words)


class PageForm(forms.Form):
    """A form of several on a page: its fields' ids begin with its name."""

    NAME = ""

    def __init__(self, *given: Any, **more: Any) -> None:
        super().__init__(*given, **{"auto_id": f"{self.NAME}-%s", **more})


class PlaceForm(forms.Form):
    """A place within a piece, and another one where a stretch is meant; in s of its take."""

    from_piece = forms.CharField(max_length=80)
    from_s = forms.FloatField(min_value=0, max_value=10**6)
    until_piece = forms.CharField(required=False, max_length=80)
    until_s = forms.FloatField(required=False, min_value=0, max_value=10**6)


class SpeedForm(PageForm):
    """How fast a stretch runs, and what becomes of its sound."""

    NAME = "speed"

    speed = forms.FloatField(
        label="Speed",
        initial=2,
        min_value=LEAST_PERCENT / 100,
        max_value=MOST_PERCENT / 100,
        widget=forms.NumberInput(
            attrs={"step": "any", "inputmode": "decimal", "list": "speeds", "data-unit": "×"}
        ),
        error_messages=errors_of(SPEED_WORDS),
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


class CardForm(PageForm):
    """A card: what it says, how it looks, how long it is seen."""

    NAME = "card"

    text = forms.CharField(
        label="Words of the card",
        max_length=TEXT_LIMIT,
        widget=forms.Textarea(attrs={"rows": 2, "placeholder": "Folding a signature"}),
        error_messages=errors_of(CARD_WORDS, "max_length"),
    )
    seconds = forms.FloatField(
        label="Seen for",
        initial=4,
        min_value=0.1,
        max_value=MOST_CARD_NS / NS_PER_S,
        widget=forms.NumberInput(attrs={"step": "0.5", "data-unit": "s"}),
        error_messages=errors_of(f"A card is seen for 0.1 to {MOST_CARD_NS // NS_PER_S} s."),
    )
    size_px = forms.IntegerField(
        label="Size",
        initial=Card("").size_px,
        min_value=TEXT_SIZE_LIMITS_PX[0],
        max_value=TEXT_SIZE_LIMITS_PX[1],
        widget=forms.NumberInput(attrs={"step": "4", "data-unit": "px"}),
        error_messages=errors_of(
            f"Words are {TEXT_SIZE_LIMITS_PX[0]} to {TEXT_SIZE_LIMITS_PX[1]} px high, in whole px."
        ),
    )
    colour = forms.RegexField(
        COLOUR, label="Words", initial=Card("").colour, widget=forms.TextInput({"type": "color"})
    )
    backdrop = forms.RegexField(
        COLOUR, label="Ground", initial=Card("").backdrop, widget=forms.TextInput({"type": "color"})
    )

    @property
    def card(self) -> Card:
        """The card that was checked."""
        names = ("text", "size_px", "colour", "backdrop")
        found = {name: self.cleaned_data[name] for name in names}
        return Card(**{**found, "text": "\n".join(found["text"].splitlines())})

    @property
    def length_ns(self) -> int:
        """How long it is seen."""
        return round(self.cleaned_data["seconds"] * NS_PER_S)


class FadesForm(PageForm):
    """How long the whole takes out of black and into it."""

    NAME = "fades"

    fade_in = forms.IntegerField(
        label="Out of black",
        min_value=0,
        max_value=MOST_FADE_MS,
        widget=forms.NumberInput(attrs={"step": "100", "data-unit": "ms"}),
        error_messages=errors_of(FADE_WORDS),
    )
    fade_out = forms.IntegerField(
        label="Into black",
        min_value=0,
        max_value=MOST_FADE_MS,
        widget=forms.NumberInput(attrs={"step": "100", "data-unit": "ms"}),
        error_messages=errors_of(FADE_WORDS),
    )


class PieceFadesForm(FadesForm):
    """How long one piece does."""

    NAME = "piece-fades"


class MusicForm(PageForm):
    """A bed under the whole."""

    NAME = "music"

    bed = forms.ChoiceField(
        label="Music",
        required=False,
        choices=[("", "none"), *((name, words) for name, (words, _) in BEDS.items())],
    )
    gain_db = forms.FloatField(
        label="Its level",
        initial=-6,
        min_value=-40,
        max_value=6,
        widget=forms.NumberInput(attrs={"step": "1", "data-unit": "dB"}),
        error_messages=errors_of("Music is −40 to 6 dB loud."),
    )

    def __init__(self, *given: Any, files: Iterable[AddedFile] = (), **more: Any) -> None:
        super().__init__(*given, **more)
        bed: Any = self.fields["bed"]
        bed.choices = [*bed.choices, *((f.id, f.name) for f in files)]

    @property
    def music(self) -> Music | None:
        """What was checked."""
        bed = self.cleaned_data["bed"]
        return Music(bed, self.cleaned_data["gain_db"]) if bed else None


class AddedFileForm(PageForm):
    """A video or sound file from the user's disk."""

    NAME = "added"

    file = forms.FileField(
        label="Video or sound file",
        widget=forms.FileInput({"accept": ",".join(ENDINGS)}),
        error_messages=errors_of("Choose a video or sound file.", "missing", "empty"),
    )


class QuietForm(PageForm):
    """What counts as quiet, and what is left of it."""

    NAME = "quiet"

    below = forms.FloatField(
        label="Below",
        initial=f"{BELOW_DBFS:g}",
        min_value=-90,
        max_value=-10,
        widget=forms.NumberInput(attrs={"step": "1", "data-unit": "dBFS"}),
        error_messages=errors_of("A voice is quiet below −90 to −10 dBFS."),
    )
    seconds = forms.FloatField(
        label="For at least",
        initial=f"{FOR_S:g}",
        min_value=0.1,
        max_value=60,
        widget=forms.NumberInput(attrs={"step": "0.1", "data-unit": "s"}),
        error_messages=errors_of("A quiet stretch lasts at least 0.1 to 60 s."),
    )
    rest = forms.IntegerField(
        label="Leave",
        initial=300,
        min_value=0,
        max_value=MOST_REST_MS,
        widget=forms.NumberInput(attrs={"step": "50", "data-unit": "ms"}),
        error_messages=errors_of(f"Of a pause 0 to {MOST_REST_MS} ms are left, in whole ms."),
    )
    faster = forms.FloatField(
        label="Or run it at",
        initial=4,
        min_value=LEAST_PERCENT / 100,
        max_value=MOST_PERCENT / 100,
        widget=forms.NumberInput(attrs={"step": "any", "list": "speeds", "data-unit": "×"}),
        error_messages=errors_of(SPEED_WORDS),
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
        error_messages=errors_of(NAME_WORDS, "max_length"),
    )


class ChapterForm(PageForm):
    """What a chapter is called."""

    NAME = "chapter"

    title = forms.CharField(
        label="Name of the chapter",
        max_length=MOST_WORDS,
        error_messages=errors_of(CHAPTER_WORDS, "max_length"),
    )
