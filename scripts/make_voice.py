"""Speak the studio's script with espeak-ng into src/kettle_studio/assets/voice.flac.

Run once by a developer on a machine with Debian's espeak-ng; the result is shipped.
"""

import io
import subprocess
import wave
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import soxr

from kettle_studio.script import LOOP_S, SPOKEN

RATE_HZ = 24_000
TARGET = Path(__file__).parents[1] / "src/kettle_studio/assets/voice.flac"


def speak(text: str) -> np.ndarray:
    """Mono float samples of a sentence at RATE_HZ."""
    command = ["espeak-ng", "-v", "en-gb+f3", "-s", "150", "-p", "42", "--stdout", text]
    data = subprocess.run(command, check=True, capture_output=True).stdout
    with wave.open(io.BytesIO(data)) as file:
        rate_hz = file.getframerate()
        samples = np.frombuffer(file.readframes(file.getnframes()), np.int16) / 32768
    return soxr.resample(samples, rate_hz, RATE_HZ)


def main() -> None:
    """Lay every sentence at its second and write FLAC."""
    track = np.zeros(LOOP_S * RATE_HZ)
    end_before = 0
    for second, text in SPOKEN:
        spoken = speak(text)
        start = round(second * RATE_HZ)
        print(f"{second:6.2f} s to {(start + spoken.size) / RATE_HZ:6.2f} s  {text}")
        if start < end_before or start + spoken.size > track.size:
            raise SystemExit("Sentences overlap; move this one.")
        end_before = start + spoken.size
        track[start:end_before] = spoken
    pcm = np.rint(track / np.abs(track).max() * 0.8 * 32767).astype(np.int16)
    with av.open(str(TARGET), "w") as container:
        stream = container.add_stream("flac", rate=RATE_HZ, layout="mono", format="s16")
        frame = av.AudioFrame.from_ndarray(pcm[None, :], format="s16", layout="mono")
        frame.sample_rate = RATE_HZ
        frame.time_base = Fraction(1, RATE_HZ)
        frame.pts = 0
        for packet in [*stream.encode(frame), *stream.encode(None)]:
            container.mux(packet)


if __name__ == "__main__":
    main()
