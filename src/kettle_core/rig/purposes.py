"""Starting points of a format by what somebody makes, each with its consequences in a sentence."""

from dataclasses import dataclass, replace
from fractions import Fraction

from kettle_core.rig.format import (
    CEILING,
    CONSTANT,
    QUALITY,
    FilesFormat,
    Format,
    ProgramFormat,
    Rate,
    TrackFormat,
)


@dataclass(frozen=True)
class Purpose:
    """A starting point: what of a format it sets; frame size and names stay as they are."""

    id: str
    name: str
    sentence: str
    fps: Fraction
    screens: TrackFormat
    webcams: TrackFormat
    program: ProgramFormat
    sound_codec: str = "flac"

    def applied(self, before: Format) -> Format:
        """A format from here on."""
        files: FilesFormat = replace(before.files, sound_codec=self.sound_codec)
        return replace(
            before,
            fps=self.fps,
            screens=self.screens,
            webcams=self.webcams,
            program=self.program,
            files=files,
        )


_HALF_SECOND = Fraction(1, 2)

PURPOSES = (
    Purpose(
        "print",
        "Small print on a screen",
        "Screens at CRF 14, so that print of 10 px keeps its edges; webcams under a ceiling.",
        Fraction(30),
        TrackFormat(Rate(QUALITY, 14), "superfast"),
        TrackFormat(Rate(CEILING, 22), "ultrafast"),
        ProgramFormat(Rate(QUALITY, 16), "veryfast"),
    ),
    Purpose(
        "head",
        "Talking head",
        "Webcams get up to 16 Mbit/s at CRF 18 and more work; screens as usual.",
        Fraction(30),
        TrackFormat(Rate(QUALITY, 20), "superfast"),
        TrackFormat(Rate(CEILING, 18, 16_000), "superfast"),
        ProgramFormat(Rate(QUALITY, 18), "fast"),
    ),
    Purpose(
        "hours",
        "Hours on a nearly full disk",
        "Screens at 15 fps and CRF 26, webcams at half their size under 1.5 Mbit/s.",
        Fraction(15),
        TrackFormat(Rate(QUALITY, 26), "veryfast", fps=Fraction(15)),
        TrackFormat(Rate(CEILING, 26, 1500), "veryfast", scale=Fraction(1, 2), fps=Fraction(15)),
        ProgramFormat(Rate(CEILING, 24, 2500), "fast", sound_kbps=96),
    ),
    Purpose(
        "editor",
        "Hand over to an editor",
        "Keyframes every half second, constant bitrates of 20 and 24 Mbit/s, PCM sounds.",
        Fraction(30),
        TrackFormat(Rate(CONSTANT, 16, 20_000), "superfast", _HALF_SECOND),
        TrackFormat(Rate(CONSTANT, 16, 24_000), "ultrafast", _HALF_SECOND),
        ProgramFormat(Rate(QUALITY, 14), "veryfast", Fraction(1), sound_kbps=320),
        sound_codec="pcm24",
    ),
    Purpose(
        "web",
        "Straight to the web",
        "The program under 6 Mbit/s with keyframes every 2 s, AAC at 160 kbit/s.",
        Fraction(30),
        TrackFormat(Rate(QUALITY, 20), "superfast"),
        TrackFormat(Rate(CEILING, 22), "ultrafast"),
        ProgramFormat(Rate(CEILING, 20, 6000), "fast", sound_kbps=160),
    ),
)
