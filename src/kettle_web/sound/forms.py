"""Fields of the Sound page; each form is saved by itself, errors stand at the field."""

from dataclasses import replace
from typing import Any

from django import forms

from kettle_core.sound.auto_gain import TARGET_LIMITS_LUFS
from kettle_core.sound.background import DUCKING_LIMITS, Ducking
from kettle_core.sound.routing import SEND_LIMITS_DB
from kettle_core.sound.tone import Tone
from kettle_core.sound.voice_level import DELAY_LIMITS_MS, GAIN_LIMITS_DB
from kettle_web.frame.form_fields import DOWNMIX_WORDS, decimal, name_field, percent, plain

HUM_WORDS = (("auto", "find it"), ("50", "50 Hz"), ("60", "60 Hz"))

ENGINE_WORDS = (("thorough", "thorough"), ("light", "light"))

FIRST_SUPPRESSION, FIRST_ECHO = 80, 50


class ChainForm(forms.Form):
    """The steps of a sound's chain: a switch and a main value each."""

    gain_db = decimal("Gain, dB", "gain", GAIN_LIMITS_DB, "dB")
    downmix = forms.ChoiceField(choices=DOWNMIX_WORDS, label="Channels")
    delay_ms = decimal("Delay, ms", "delay", DELAY_LIMITS_MS, "ms", "1")
    pan = decimal("Pan, %", "pan", (-100, 100), "%", "5")
    hum_on = forms.BooleanField(required=False, label="Hum filter")
    hum = forms.ChoiceField(choices=HUM_WORDS, label="Mains")
    suppression_on = forms.BooleanField(required=False, label="Noise suppression")
    suppression = percent("Strength, %", "noise suppression")
    engine = forms.ChoiceField(choices=ENGINE_WORDS, label="How")
    low_cut = forms.BooleanField(required=False, label="Low cut")
    echo_on = forms.BooleanField(required=False, label="Echo reduction")
    echo = percent("Strength, %", "echo reduction")
    auto_gain = forms.BooleanField(required=False, label="Automatic gain")
    target_lufs = decimal("Target, LUFS", "target", TARGET_LIMITS_LUFS, "LUFS")
    limiter = forms.BooleanField(required=False, label="Limiter")

    @staticmethod
    def values_of(tone: Tone) -> dict[str, Any]:
        """What the fields show of a tone; what is off shows what turning it on would give."""
        return {
            **plain(vars(tone)),
            "pan": round(tone.pan * 100),
            "hum_on": tone.hum != "off",
            "hum": "auto" if tone.hum == "off" else tone.hum,
            "suppression_on": tone.suppression > 0,
            "suppression": tone.suppression or FIRST_SUPPRESSION,
            "echo_on": tone.echo > 0,
            "echo": tone.echo or FIRST_ECHO,
        }

    def to_tone(self, before: Tone) -> Tone:
        """The tone with what was set."""
        data = self.cleaned_data
        return replace(
            before,
            gain_db=round(data["gain_db"], 1),
            downmix=data["downmix"],
            delay_ms=round(data["delay_ms"], 2),
            pan=round(data["pan"] / 100, 2),
            hum=data["hum"] if data["hum_on"] else "off",
            suppression=data["suppression"] if data["suppression_on"] else 0,
            engine=data["engine"],
            low_cut=data["low_cut"],
            echo=data["echo"] if data["echo_on"] else 0,
            auto_gain=data["auto_gain"],
            target_lufs=round(data["target_lufs"], 1),
            limiter=data["limiter"],
        )


class DuckingForm(forms.Form):
    """How far the background goes down under a voice, and how fast."""

    on = forms.BooleanField(required=False, label="Lower the background while you speak")
    depth_db = decimal("By, dB", "depth", DUCKING_LIMITS["depth_db"], "dB", "1")
    attack_ms = decimal("Attack, ms", "attack", DUCKING_LIMITS["attack_ms"], "ms", "10")
    hold_ms = decimal("Hold, ms", "hold", DUCKING_LIMITS["hold_ms"], "ms", "50")
    release_ms = decimal("Release, ms", "release", DUCKING_LIMITS["release_ms"], "ms", "50")

    def to_ducking(self) -> Ducking:
        """The ducking that was set."""
        return Ducking(**self.cleaned_data)


class StemForm(forms.Form):
    """A stem's name, and whether it is mono or stereo."""

    name = name_field("A stem needs a name, so nothing changed. Type one.")
    channels = forms.TypedChoiceField(
        choices=((1, "mono"), (2, "stereo")),
        coerce=int,
        label="Channels",
        error_messages={
            "invalid_choice": "A stem is mono or stereo. Choose one of them.",
            "required": "A stem is mono or stereo. Choose one of them.",
        },
    )


class MixForm(forms.Form):
    """A sound's level in the mix of a scene, or on a track."""

    gain_db = decimal("Level, dB", "level", SEND_LIMITS_DB, "dB")
