"""How an input's sound is used: the settings of its chain, and the chain they make."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated

from kettle_core.fields import OneOf, Percent, within
from kettle_core.sound.auto_gain import TARGET_LIMITS_LUFS, AutoGain
from kettle_core.sound.echo import EchoReduction
from kettle_core.sound.hum import HumFilter
from kettle_core.sound.levels import Sound
from kettle_core.sound.limiter import Limiter
from kettle_core.sound.low_cut import LowCut
from kettle_core.sound.shaping import Downmix, downmixed, panned, with_gain
from kettle_core.sound.stage import Chain, EachSample, Stage
from kettle_core.sound.suppression import ENGINES, NoiseSuppression, VoiceKeeper
from kettle_core.sound.voice_level import DELAY_LIMITS_MS, GAIN_LIMITS_DB

HUM_CHOICES = ("off", "auto", "50", "60")
CEILING_DBTP = -1.0
# The limiter may pass its own by a tenth.
LIMITER_DBTP = CEILING_DBTP - 0.1


@dataclass(frozen=True)
class Tone:
    """How an input's sound is used; the track stays raw, the mix and the levels follow it.

    `delay_ms` above 0 makes the sound later; `pan` is -1 (left) to 1 (right) and moves mono
    sounds in the mix. `suppression` and `echo` are strengths in %, `engine` is that of the
    suppression. Everything that changes the sound itself is off at first: music must not be
    cleaned, and a voice only as far as it needs it.
    """

    gain_db: Annotated[float, within(*GAIN_LIMITS_DB)] = 0.0
    downmix: Downmix = "stereo"
    delay_ms: Annotated[float, within(*DELAY_LIMITS_MS)] = 0.0
    pan: Annotated[float, within(-1, 1)] = 0.0
    hum: Annotated[str, OneOf(HUM_CHOICES)] = "off"
    suppression: Percent = 0
    engine: Annotated[str, OneOf(ENGINES)] = "thorough"
    low_cut: bool = False
    echo: Percent = 0
    auto_gain: bool = False
    target_lufs: Annotated[float, within(*TARGET_LIMITS_LUFS)] = -18.0
    limiter: bool = False

    @property
    def cleans(self) -> bool:
        """Whether the chain does more than gain and downmix."""
        return bool(
            self.hum != "off"
            or self.suppression
            or self.low_cut
            or self.echo
            or self.auto_gain
            or self.limiter
        )


def placed(sound: Sound, tone: Tone) -> Sound:
    """A sound with the gain and downmix of its tone, nothing else."""
    return downmixed(with_gain(sound, tone.gain_db), tone.downmix)


def panned_as(tone: Tone, sound: Sound) -> Sound:
    """A sound in both channels of a mix, a mono one at its place between them."""
    one = sound.shape[0] == 1 or tone.downmix != "stereo"
    return panned(sound, tone.pan) if one else sound


def tone_chain(
    tone: Tone, channels: int, make_engine: Callable[[str], VoiceKeeper], heard: Sound | None = None
) -> Chain:
    """The chain of a tone for a sound at 48 kHz, in the order in which it helps most.

    Hum goes before the noise suppression, which then hears a voice in noise and no tones:
    on real voices in hum at 5 dB that is worth 8 dB of SI-SDR (docs/sound.md).

    Parameters
    ----------
    channels : 1 or 2
    make_engine : gives an engine of noise suppression by its name
    heard : the beginning of the sound that will come, as it comes; without it the hum filter
        has to listen for four seconds first
    """
    stages: list[Stage] = [EachSample(lambda block: placed(block, tone))]
    if tone.hum != "off":
        beginning = None if heard is None else placed(heard, tone)
        stages.append(HumFilter(channels, mains_hz(tone.hum), beginning))
    if tone.suppression:
        engine = tone.engine
        stages.append(
            NoiseSuppression(lambda: make_engine(engine), channels, tone.suppression / 100)
        )
    if tone.low_cut:
        stages.append(LowCut(channels))
    if tone.echo:
        stages.append(EchoReduction(channels, tone.echo / 100))
    if tone.auto_gain:
        stages.append(AutoGain(channels, tone.target_lufs))
    if tone.limiter:
        stages.append(Limiter(channels, CEILING_DBTP))
    return Chain(stages)


def mains_hz(hum: str) -> float | None:
    """The mains frequency that a choice of hum filter names; None for both."""
    return float(hum) if hum in ("50", "60") else None
