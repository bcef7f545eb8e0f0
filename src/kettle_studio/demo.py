"""The rig of the demo scenario."""

import os
from dataclasses import replace
from fractions import Fraction

from kettle_core.rig.changes import in_mode, with_format, with_input
from kettle_core.rig.devices import Mode
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Card, Input, Looks, Rig, input_of_device
from kettle_core.rig.sound_changes import preset_stems
from kettle_core.rig.starting_layouts import first_scene, scene_sound, whole_layer
from kettle_core.scene.layout import Box, fit_inside
from kettle_core.scene.scene import ChangeOver, Scene
from kettle_core.sound.background import Ducking
from kettle_core.sound.tone import Tone
from kettle_studio.driver import Studio


def demo_rig() -> Rig:
    """The rig of the demo scenario: four tracks of the whole studio, the rest at hand."""
    devices = {d.id: d for d in Studio().list_devices()}

    def made(device_id: str, recorded: bool = False, on: bool = True) -> Input:
        item = input_of_device(devices[device_id], device_id.replace("/", "-"))
        return replace(item, recorded=recorded, on=on)

    display = replace(made("display-1", recorded=True), mode=Mode(1920, 1080, Fraction(30)))
    webcam = replace(made("webcam-1", recorded=True), looks=Looks(turn=180))
    bench = replace(made("webcam-2"), mode=Mode(1920, 1080, Fraction(30)))
    # Far away, in a fan's noise and the hum of its supply.
    laptop_tone = Tone(gain_db=6.0, hum="auto", suppression=80, low_cut=True)
    tablet, headset = made("tablet"), made("headset", recorded=True)
    system = made("system", recorded=True)
    title = Input(
        "title",
        "Title card",
        "text",
        "",
        Mode(1920, 1080),
        recorded=False,
        card=Card("Planning a signature\nOdile Fernhollow", size_px=110),
    )
    inputs = (
        display,
        made("display-2", on=False),
        tablet,
        webcam,
        bench,
        headset,
        replace(made("laptop", on=False), tone=laptop_tone),
        system,
        title,
    )
    format_ = Format()
    frame = format_.frame
    voice, music = scene_sound(headset), scene_sound(system)
    beside = fit_inside(*display.size, Box(1240, 60, 620, 350))
    scenes = (
        first_scene("Sheet and me", (display, webcam, headset, system), format_),
        Scene(
            "scene-2",
            "At the bench",
            # Of what has a track: who changes the scene first finds all of it in the program.
            (whole_layer(webcam, frame), whole_layer(display, beside)),
            (voice, music),
            key="2",
            change_over=ChangeOver("glide", 600),
        ),
        Scene("scene-3", "Title", (whole_layer(title, frame),), (music,), key="3"),
    )
    rig = Rig("Bench rig", inputs, scenes, format_, ducking=Ducking(on=True, depth_db=9.0))
    return replace(rig, stems=preset_stems(rig, "voice-and-system"))


def sized_demo_rig() -> Rig:
    """The demo rig, smaller by KETTLE_DEMO_PART ("3"): for machines and tests with little time."""
    return shrunk(demo_rig(), int(os.environ.get("KETTLE_DEMO_PART", "1")))


def shrunk(rig: Rig, part: int) -> Rig:
    """The rig with frame, cards and recorded screens of a `part`th of their width and height.

    Its webcams are in their smallest modes and recorded as they are.
    """
    if part == 1:
        return rig
    webcams = [d for d in Studio().list_devices() if d.kind == "webcam"]
    smallest = {d.id: min(d.modes, key=lambda m: (m.width, m.fps)) for d in webcams}
    for item in rig.inputs:
        if item.device in smallest:
            rig = with_input(rig, in_mode(item, smallest[item.device]))
        if item.card:
            mode = Mode(item.mode.width // part, item.mode.height // part)
            card = replace(item.card, size_px=item.card.size_px // part)
            rig = with_input(rig, replace(item, mode=mode, card=card))
    written = rig.format.shrunk(part)
    screens = replace(written.screens, scale=Fraction(1, part))
    whole = replace(written.webcams, scale=Fraction(1))
    return with_format(rig, replace(written, screens=screens, webcams=whole))
