"""The form of an export that is set by hand."""

from typing import Any

from django import forms

from kettle_core.assembly.export import LINES, MOST_MB, Export
from kettle_core.assembly.export_costs import PURPOSES
from kettle_web.assembly.forms import PageForm, errors_of

KINDS = (
    ("mp4", "MP4: H.264, AAC"),
    ("webm", "WebM: VP9, Opus"),
    ("m4a", "M4A: sound alone, AAC"),
    ("mp3", "MP3: sound alone"),
    ("flac", "FLAC: sound alone, nothing lost"),
    ("wav", "WAV: sound alone, 24 bits"),
)
SPEEDS = (
    ("ultrafast", "fastest, larger"),
    ("veryfast", "fast"),
    ("medium", "in between"),
    ("slow", "slow, smaller"),
)


class ExportForm(PageForm):
    """What is to be made."""

    NAME = "export"

    kind = forms.ChoiceField(label="File", choices=KINDS)
    lines = forms.TypedChoiceField(
        label="Lines", coerce=int, initial=1080, choices=[(n, f"{n}") for n in LINES]
    )
    crf = forms.IntegerField(
        label="Quality, 1 is best",
        initial=20,
        min_value=1,
        max_value=51,
        widget=forms.NumberInput(attrs={"data-unit": "CRF"}),
        error_messages=errors_of(
            "A quality is 1 to 51; 18 is hardly told from what it is made of."
        ),
    )
    max_mb = forms.FloatField(
        label="No larger than",
        required=False,
        min_value=0.001,
        max_value=MOST_MB,
        widget=forms.NumberInput(attrs={"step": "any", "data-unit": "MB", "placeholder": "any"}),
        error_messages=errors_of("A size is more than 0 MB. Leave it empty for any size."),
    )
    speed = forms.ChoiceField(label="Encoding", choices=SPEEDS, initial="veryfast")
    sound_kbps = forms.IntegerField(
        label="Sound",
        initial=192,
        min_value=32,
        max_value=512,
        widget=forms.NumberInput(attrs={"step": "32", "data-unit": "kbit/s"}),
        error_messages=errors_of("Sound takes 32 to 512 kbit/s."),
    )
    lufs = forms.FloatField(
        label="Loudness",
        required=False,
        initial=-16,
        min_value=-40,
        max_value=-6,
        widget=forms.NumberInput(
            attrs={"step": "1", "data-unit": "LUFS", "placeholder": "as it is"}
        ),
        error_messages=errors_of("A loudness is −40 to −6 LUFS. Leave it empty to keep it."),
    )

    @property
    def order(self) -> Export:
        """What was checked."""
        found: dict[str, Any] = dict(self.cleaned_data)
        return Export(**{**found, "max_mb": found["max_mb"] or 0.0})


def purpose_order(name: str) -> Export | None:
    """What is made for a purpose."""
    return next((p.order for p in PURPOSES if p.id == name), None)
