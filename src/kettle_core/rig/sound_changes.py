"""Changes of a rig's sounds: their chains, tracks, mix and ducking."""

from dataclasses import replace

from kettle_core.errors import RigError
from kettle_core.rig.devices import VOICE_KINDS
from kettle_core.rig.rig import Input, Rig, unused_id
from kettle_core.scene.scene import SceneSound
from kettle_core.sound.routing import MAX_STEMS, Send, Stem
from kettle_core.sound.tone import Tone

PRESETS = {
    "apart": "everything apart",
    "voice-and-system": "voice and system apart",
    "one": "one mix",
}


def sounds_of(rig: Rig) -> tuple[Input, ...]:
    """The inputs that are heard and on."""
    return tuple(i for i in rig.inputs if not i.is_picture and i.on)


def preset_stems(rig: Rig, preset: str) -> tuple[Stem, ...]:
    """The tracks of a preset.

    Raises
    ------
    RigError
        If there is no such preset.
    """
    recorded = [i for i in sounds_of(rig) if i.recorded]
    voices = [i for i in recorded if i.kind in VOICE_KINDS]
    others = [i for i in recorded if i.kind not in VOICE_KINDS]
    if preset == "apart":
        tracks = [Stem(i.id, i.name, i.mode.channels, (Send(i.id),)) for i in recorded]
        return tuple(tracks)
    if preset == "voice-and-system":
        groups = [("voice", "Voice", 1, voices), ("system", "System audio", 2, others)]
    elif preset == "one":
        groups = [("mix", "Mix", 2, recorded)]
    else:
        words = ", ".join(PRESETS.values())
        raise RigError(f"There are presets for {words}; got “{preset}”.", "preset")
    return tuple(
        Stem(id_, name, channels, tuple(Send(i.id) for i in inputs))
        for id_, name, channels, inputs in groups
        if inputs
    )


def preset_of(rig: Rig) -> str:
    """The preset that the rig's tracks follow, or ""."""
    for preset in PRESETS:
        if rig.stems == preset_stems(rig, preset):
            return preset
    return ""


def following_preset(before: Rig, after: Rig) -> Rig:
    """A changed rig whose tracks go on following the preset that they followed before.

    So a sound that is added, deleted, turned off or recorded anew is on its track by itself;
    tracks that were set by hand stay as they are.
    """
    preset = preset_of(before)
    if not preset or after.stems != _still_there(before, after):
        return after
    return replace(after, stems=preset_stems(after, preset))


def with_stem(rig: Rig, name: str, channels: int) -> Rig:
    """The rig with one more track, which nothing goes to yet. Raises RigError."""
    if len(rig.stems) >= MAX_STEMS:
        raise RigError(f"A rig has at most {MAX_STEMS} stems.", "name")
    if any(t.name.casefold() == name.casefold() for t in rig.stems):
        raise RigError(f"There is a track “{name}” already; choose another name.", "name")
    id_ = unused_id(name, [t.id for t in rig.stems])
    return replace(rig, stems=(*rig.stems, Stem(id_, name, channels, ())))


def with_changed_track(rig: Rig, track_id: str, name: str, channels: int) -> Rig:
    """The rig with a track renamed, or made mono or stereo. Raises RigError."""
    track = _track(rig, track_id)
    if any(t.name.casefold() == name.casefold() for t in rig.stems if t.id != track_id):
        raise RigError(f"There is a track “{name}” already; choose another name.", "name")
    return _with_track(rig, replace(track, name=name, channels=channels))


def without_stem(rig: Rig, track_id: str) -> Rig:
    """The rig without a track; what went there is recorded all the same. Raises RigError."""
    track = _track(rig, track_id)
    return replace(rig, stems=tuple(t for t in rig.stems if t != track))


def with_send(rig: Rig, track_id: str, input_id: str, on: bool) -> Rig:
    """The rig with a sound on a stem, or not. Raises RigError."""
    track, item = _track(rig, track_id), _sound(rig, input_id)
    sends = tuple(s for s in track.sends if s.input_id != item.id or on)
    if on and not track.sends_of(item.id):
        sends = (*sends, Send(item.id))
    return _with_track(rig, replace(track, sends=sends))


def with_send_gain(rig: Rig, track_id: str, input_id: str, gain_db: float) -> Rig:
    """The rig with a sound at another level on a track; it goes there. Raises RigError."""
    track, name = _track(rig, track_id), _sound(rig, input_id).id
    sends = tuple(replace(s, gain_db=gain_db) if s.input_id == name else s for s in track.sends)
    if not track.sends_of(name):
        sends = (*sends, Send(name, gain_db))
    return _with_track(rig, replace(track, sends=sends))


def with_mix_gain(rig: Rig, scene_id: str, input_id: str, gain_db: float) -> Rig:
    """The rig with a sound's level in the mix of a scene; it is heard there. Raises RigError."""
    scene, name = rig.scene(scene_id), _sound(rig, input_id).id
    others = tuple(s for s in scene.sounds if s.input_id != name)
    before = next((s for s in scene.sounds if s.input_id == name), SceneSound(name, 0.0))
    sounds = (*others, replace(before, gain_db=gain_db, heard=True))
    order = [i.id for i in rig.inputs]
    changed = replace(scene, sounds=tuple(sorted(sounds, key=lambda s: order.index(s.input_id))))
    return replace(rig, scenes=tuple(changed if s.id == scene_id else s for s in rig.scenes))


def with_tone(rig: Rig, input_id: str, tone: Tone) -> Rig:
    """The rig with the chain of a sound set otherwise. Raises RigError."""
    item = _sound(rig, input_id)
    changed = replace(item, tone=tone)
    return replace(rig, inputs=tuple(changed if i.id == item.id else i for i in rig.inputs))


def _still_there(before: Rig, after: Rig) -> tuple[Stem, ...]:
    """The tracks of `before` without what is not an input of `after` any more."""
    there = {i.id for i in after.inputs}
    return tuple(
        replace(t, sends=tuple(s for s in t.sends if s.input_id in there)) for t in before.stems
    )


def _with_track(rig: Rig, track: Stem) -> Rig:
    tracks = tuple(track if t.id == track.id else t for t in rig.stems)
    return replace(rig, stems=tracks)


def _track(rig: Rig, track_id: str) -> Stem:
    for track in rig.stems:
        if track.id == track_id:
            return track
    raise RigError(f"The rig has no stem “{track_id}”.", "track")


def _sound(rig: Rig, input_id: str) -> Input:
    item = rig.input(input_id)
    if item.is_picture:
        raise RigError(f"“{item.name}” is a picture and has no sound.", "input")
    return item
