"""The sounds of a take, corrected and cleaned: the mix of its scene and its sound tracks."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from kettle_core.rig.devices import VOICE_KINDS
from kettle_core.rig.rig import Input
from kettle_core.scene.scene import SceneSound
from kettle_core.sound.background import Ducker
from kettle_core.sound.levels import Sound
from kettle_core.sound.limiter import Limiter
from kettle_core.sound.mixing import mix_sounds
from kettle_core.sound.shaping import Delay, with_gain
from kettle_core.sound.stage import Chain
from kettle_core.sound.tone import CEILING_DBTP, panned_as, tone_chain
from kettle_media.sound.sound_file import SoundFileWriter
from kettle_media.sound.suppressors import voice_keeper
from kettle_media.take.align import master_sound
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo, TrackInfo
from kettle_media.take.master_sound import MASTER_HZ, MasterSound
from kettle_media.take.sync_report import TakeSync

PIECE_SAMPLES = 4800
LISTEN_S = 60


class CleanedSound:
    """An input's recorded sound on the master's time axis, through its chain."""

    def __init__(self, folder: TakeFolder, track: TrackInfo, sync: TakeSync, item: Input) -> None:
        found = sync.of(track.name)
        late_ms = found.latency_ms - item.tone.delay_ms

        def open_sound() -> MasterSound:
            return master_sound(folder, track, found.clock, sync.start_ns, late_ms)

        channels = item.mode.channels
        heard = open_sound().read(LISTEN_S * MASTER_HZ) if item.tone.hum != "off" else None
        self._sound: MasterSound = open_sound()
        rest_ms = 1000 * self._sound.late_samples / MASTER_HZ
        chain = tone_chain(item.tone, channels, voice_keeper, heard)
        self._chain = Chain([Delay(channels, rest_ms), chain])
        self._ready = np.zeros((channels, 0), np.float32)

    def read(self, samples: int) -> Sound:
        """The next (channels, samples) float32; silence after the end."""
        parts, have = [self._ready], self._ready.shape[1]
        while have < samples:
            parts.append(self._chain.process(self._sound.read(PIECE_SAMPLES)))
            have += parts[-1].shape[1]
        joined = np.concatenate(parts, axis=1)
        self._ready = joined[:, samples:]
        return joined[:, :samples]


class TakeSound:
    """Reads all sounds of a take together; `read` gives the mix and writes the sound tracks.

    The mix follows the scene's levels, ducking and pan, and its true peak is limited; a
    sound track has the cleaned sounds of its inputs at its own levels, as an editor wants it.
    """

    def __init__(
        self,
        folder: TakeFolder,
        info: TakeInfo,
        sync: TakeSync,
        heard: Sequence[SceneSound],
    ) -> None:
        rig = info.rig_values
        captured = {t.name: t for t in info.tracks if t.name in sync.captured_ns}
        sounds = [i for i in rig.inputs if not i.is_picture and i.id in captured]
        self._gains_db = {s.input_id: s.gain_db for s in heard}
        tracks = [
            replace(t, sends=tuple(s for s in t.sends if s.input_id in captured))
            for t in rig.sound_tracks
        ]
        self._tracks = [t for t in tracks if t.sends]
        used = self._gains_db.keys() | {s.input_id for t in self._tracks for s in t.sends}
        self._items = {i.id: i for i in sounds if i.id in used}
        self._sounds = {
            i.id: CleanedSound(folder, captured[i.id], sync, i) for i in self._items.values()
        }
        self._duckers = {
            i.id: Ducker(2, rig.ducking)
            for i in self._items.values()
            if rig.ducking.on and i.kind not in VOICE_KINDS and i.id in self._gains_db
        }
        self._limiter = Limiter(2, CEILING_DBTP)
        self._straight = np.zeros((2, 0), np.float32)
        folder.sounds_path.mkdir(exist_ok=True)
        dither = np.random.default_rng(0)
        # What was there is replaced only when the new one is whole.
        parts = {t.id: folder.sounds_path / f".{t.id}.part.flac" for t in self._tracks}
        self._finished = {parts[t.id]: folder.sound_path(t) for t in self._tracks}
        self._writers = {
            t.id: SoundFileWriter(parts[t.id], t.channels, MASTER_HZ, dither) for t in self._tracks
        }

    def read(self, samples: int) -> Sound:
        """Take the next samples of all sounds, give what is ready of the mix."""
        read = {name: sound.read(samples) for name, sound in self._sounds.items()}
        for track in self._tracks:
            sends = [(read[s.input_id], s.gain_db) for s in track.sends]
            self._writers[track.id].write(mix_sounds(sends, samples, track.channels))
        heard = {n: panned_as(self._items[n].tone, read[n]) for n in self._gains_db if n in read}
        straight = [(x, self._gains_db[n]) for n, x in heard.items() if n not in self._duckers]
        self._straight = np.concatenate([self._straight, mix_sounds(straight, samples)], axis=1)
        if not self._duckers:
            return self._limited(None)
        voice = [
            (x, self._gains_db[n]) for n, x in heard.items() if self._items[n].kind in VOICE_KINDS
        ]
        spoken = mix_sounds(voice, samples, 1)
        return self._limited(
            [
                ducker.process(spoken, with_gain(heard[n], self._gains_db[n]))
                for n, ducker in self._duckers.items()
            ]
        )

    def flush(self) -> Sound:
        """The rest of the mix; the sound tracks are whole then."""
        for writer in self._writers.values():
            writer.close()
        for part, path in self._finished.items():
            part.replace(path)
        ducked = [ducker.flush() for ducker in self._duckers.values()]
        rest = self._limited(ducked or None)
        return np.concatenate([rest, self._limiter.flush()], axis=1)

    def close(self) -> None:
        """Close the sound tracks, also when the work was broken off."""
        for writer in self._writers.values():
            writer.close()
        for part in self._finished:
            part.unlink(missing_ok=True)

    def _limited(self, ducked: list[Sound] | None) -> Sound:
        """What is ready of the mix: all, or as far as the ducked backgrounds are."""
        ready = self._straight.shape[1] if ducked is None else ducked[0].shape[1]
        mixed, self._straight = self._straight[:, :ready], self._straight[:, ready:]
        return self._limiter.process(np.asarray(sum(ducked or [], mixed), np.float32))
