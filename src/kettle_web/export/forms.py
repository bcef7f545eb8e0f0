"""The form of an export that is set by hand."""

from dataclasses import replace
from typing import Any

from django import forms

from kettle_core.assembly.export import LINES, MOST_MB, MOVING, SOUND_ONLY, VIDEO, Export
from kettle_core.assembly.export_costs import PURPOSES
from kettle_core.rig.format import LEAST_KBPS, MOST_KBPS
from kettle_web.assembly.forms import PageForm, errors_of

KINDS = (
    ("mp4", "MP4: H.264, AAC"),
    ("webm", "WebM: VP9, Opus"),
    ("av1", "WebM: AV1, Opus"),
    ("gif", "GIF: moves in any text, no sound"),
    ("webp", "WebP: moves, smaller, no sound"),
    ("png", "PNG: each frame, in a ZIP"),
    ("m4a", "M4A: sound alone, AAC"),
    ("mp3", "MP3: sound alone"),
    ("flac", "FLAC: sound alone, nothing lost"),
    ("wav", "WAV: sound alone, 24 bits"),
)
HEARD = (*VIDEO, *SOUND_ONLY)
SPEEDS = (
    ("ultrafast", "fastest, larger"),
    ("veryfast", "fast"),
    ("medium", "in between"),
    ("slow", "slow, smaller"),
)


TIME_WORDS = "A time is 0 or more seconds of the program. Leave it empty for its end."
LONGEST_S = 10**6


def for_kinds(*kinds: str) -> dict[str, str]:
    """Attributes of a field that means something for these kinds of files only."""
    return {"data-kinds": " ".join(kinds)}


def _moment(label: str, else_: str) -> forms.FloatField:
    """A time of the program, in s."""
    return forms.FloatField(
        label=label,
        required=False,
        min_value=0,
        max_value=LONGEST_S,
        widget=forms.NumberInput({"step": "any", "data-unit": "s", "placeholder": else_}),
        error_messages=errors_of(TIME_WORDS),
    )


class StretchForm(forms.Form):
    """A stretch of the program, in s of it; all of it where nothing is said."""

    from_s = _moment("From", "")
    until_s = _moment("Until", "")

    @property
    def stretch_ms(self) -> tuple[int, int]:
        """From and until in ms; (0, 0) for all, also where it can't be read."""
        if not self.is_valid():
            return 0, 0
        found = (self.cleaned_data[name] or 0.0 for name in ("from_s", "until_s"))
        first, until = (round(1000 * seconds) for seconds in found)
        return first, until


class ExportForm(PageForm):
    """What is to be made."""

    NAME = "export"

    kind = forms.ChoiceField(label="File", choices=KINDS)
    lines = forms.TypedChoiceField(
        label="Lines",
        coerce=int,
        initial=1080,
        choices=[(n, f"{n}") for n in LINES],
        widget=forms.Select(for_kinds(*VIDEO, *MOVING, "png")),
    )
    shape = forms.ChoiceField(
        label="Shape",
        required=False,
        choices=(("", "as it is"), ("portrait", "portrait, 9:16")),
        widget=forms.Select(for_kinds(*VIDEO, *MOVING, "png")),
    )
    aside = forms.IntegerField(
        label="Part shown in portrait",
        required=False,
        initial=50,
        min_value=0,
        max_value=100,
        widget=forms.NumberInput(
            {"step": "5", "data-unit": "% from the left", **for_kinds(*VIDEO, *MOVING, "png")}
        ),
        error_messages=errors_of("The part lies 0 (left) to 100 (right) percent from the left."),
    )
    from_s = _moment("From", "its beginning")
    until_s = _moment("Until", "its end")
    control = forms.ChoiceField(
        label="Rate control",
        required=False,
        choices=(
            ("quality", "constant quality"),
            ("ceiling", "bitrate with a ceiling"),
            ("constant", "constant bitrate"),
        ),
        widget=forms.Select(for_kinds(*VIDEO)),
    )
    kbps = forms.IntegerField(
        label="Bitrate, or its ceiling",
        required=False,
        min_value=LEAST_KBPS,
        max_value=MOST_KBPS,
        widget=forms.NumberInput(
            {"step": "100", "data-unit": "kbit/s", "placeholder": "usual", **for_kinds(*VIDEO)}
        ),
        error_messages=errors_of(f"A bitrate is {LEAST_KBPS} to {MOST_KBPS} kbit/s."),
    )
    crf = forms.IntegerField(
        label="Quality, 1 is best",
        initial=20,
        min_value=1,
        max_value=51,
        widget=forms.NumberInput({"data-unit": "CRF", **for_kinds(*VIDEO)}),
        error_messages=errors_of(
            "A quality is 1 to 51; 18 is hardly told from what it is made of."
        ),
    )
    max_mb = forms.FloatField(
        label="No larger than",
        required=False,
        min_value=0.001,
        max_value=MOST_MB,
        widget=forms.NumberInput(
            {"step": "any", "data-unit": "MB", "placeholder": "any", **for_kinds(*VIDEO, *MOVING)}
        ),
        error_messages=errors_of("A size is more than 0 MB. Leave it empty for any size."),
    )
    fps = forms.IntegerField(
        label="Frames a second",
        required=False,
        initial=12,
        min_value=1,
        max_value=30,
        widget=forms.NumberInput(for_kinds(*MOVING)),
        error_messages=errors_of("A moving picture has 1 to 30 frames a second."),
    )
    speed = forms.ChoiceField(
        label="Encoding",
        choices=SPEEDS,
        initial="veryfast",
        widget=forms.Select(for_kinds(*VIDEO)),
    )
    sound_kbps = forms.IntegerField(
        label="Sound",
        initial=192,
        min_value=32,
        max_value=512,
        widget=forms.NumberInput(
            {"step": "32", "data-unit": "kbit/s", **for_kinds(*VIDEO, "mp3", "m4a")}
        ),
        error_messages=errors_of("Sound takes 32 to 512 kbit/s."),
    )
    lufs = forms.FloatField(
        label="Loudness",
        required=False,
        initial=-16,
        min_value=-40,
        max_value=-6,
        widget=forms.NumberInput(
            {"step": "1", "data-unit": "LUFS", "placeholder": "as it is", **for_kinds(*HEARD)}
        ),
        error_messages=errors_of("A loudness is −40 to −6 LUFS. Leave it empty to keep it."),
    )

    @property
    def order(self) -> Export:
        """What was checked."""
        found: dict[str, Any] = dict(self.cleaned_data)
        names = ("kind", "lines", "crf", "speed", "sound_kbps", "lufs")
        given = {name: found[name] for name in names}
        for name in ("aside", "fps"):
            if found[name] is not None:
                given[name] = found[name]
        return Export(
            **given,
            max_mb=found["max_mb"] or 0.0,
            control=found["control"] or "quality",
            kbps=found["kbps"] or 0,
            from_ms=round(1000 * (found["from_s"] or 0)),
            until_ms=round(1000 * (found["until_s"] or 0)),
            portrait=found["shape"] == "portrait",
        )


def purpose_order(name: str, stretch_ms: tuple[int, int]) -> Export | None:
    """What is made for a purpose, of a stretch."""
    found = next((p.order for p in PURPOSES if p.id == name), None)
    return found and replace(found, from_ms=stretch_ms[0], until_ms=stretch_ms[1])
