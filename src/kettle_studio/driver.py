"""The studio as a driver: which devices are plugged in, with clocks drawn from a seed."""

import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from kettle_core.devices import Device, DeviceInfo, Mode, Surrounding
from kettle_core.errors import DeviceError
from kettle_core.layout import Box, corner_square, fit_inside
from kettle_core.rig import (
    Card,
    Format,
    Input,
    Looks,
    Rig,
    Scene,
    Tone,
    first_scene,
    input_of_device,
    scene_sound,
    whole_layer,
)
from kettle_studio import computer, quirefold, sounds, world
from kettle_studio.clock import DeviceClock
from kettle_studio.computer import Switches
from kettle_studio.devices import (
    FAULTS,
    PICTURE_FAULTS,
    SOUND_FAULTS,
    Plug,
    SimulatedDevice,
    SimulatedDisplay,
    SimulatedOverhead,
    SimulatedSecondDisplay,
    SimulatedSound,
    SimulatedTablet,
    SimulatedWebcam,
    SimulatedWindow,
)

DEFAULT_SEED = 1
Opener = Callable[[Plug, Mode, int], SimulatedDevice]


def _picture(width: int, height: int, *rates: int) -> tuple[Mode, ...]:
    return tuple(Mode(width, height, Fraction(rate)) for rate in rates)


def _sound(rate_hz: int, channels: int) -> tuple[Mode, ...]:
    return (Mode(sample_rate_hz=rate_hz, channels=channels),)


def _window(state: Callable[[float], object], paint: Callable[..., object], box: Box) -> Opener:
    return lambda plug, mode, from_ns: SimulatedWindow(
        plug, mode, from_ns, state, paint, box  # type: ignore[arg-type]
    )  # fmt: skip


def _headset(plug: Plug, mode: Mode, from_ns: int) -> SimulatedDevice:
    seed = plug.own_clock.seed
    return SimulatedSound(
        plug, mode, from_ns, sounds.headset_sound, lambda: sounds.noise_table(seed, -62.0)
    )


def _laptop(plug: Plug, mode: Mode, from_ns: int) -> SimulatedDevice:
    """Far away, beside its own fan, with the mains in it."""
    seed, rate_hz = plug.own_clock.seed, mode.sample_rate_hz

    def noise() -> sounds.Table:
        fan = sounds.noise_table(seed, -48.0, rate_hz=rate_hz)
        return fan + sounds.hum_table(-46.0, rate_hz)

    return SimulatedSound(plug, mode, from_ns, lambda: sounds.far_sound(31, 2, 0.6, 7000), noise)


def _webcam_sound(plug: Plug, mode: Mode, from_ns: int) -> SimulatedDevice:
    seed, rate_hz = plug.own_clock.seed, mode.sample_rate_hz
    return SimulatedSound(
        plug,
        mode,
        from_ns,
        lambda: sounds.far_sound(32, 1, 0.4, 3400),
        lambda: sounds.noise_table(seed, -44.0, rate_hz=rate_hz),
    )


def _system(plug: Plug, mode: Mode, from_ns: int) -> SimulatedDevice:
    """All that the computer plays; with the bells of messages where they are on."""
    lesson = sounds.lesson_sounds()
    with_pings = lesson.system + lesson.pings

    def table() -> sounds.Table:
        switches = plug.switches
        return with_pings if switches.pings and switches.messages else lesson.system

    return SimulatedSound(plug, mode, from_ns, table)


def _lesson(part: str) -> Opener:
    return lambda plug, mode, from_ns: SimulatedSound(
        plug, mode, from_ns, lambda: getattr(sounds.lesson_sounds(), part)
    )


def _quirefold_state(world_s: float) -> world.Desktop:
    return replace(world.desktop_at(world_s), pointer=(0, 0))


_QUIREFOLD = Box(0, 0, quirefold.WIDTH, quirefold.HEIGHT - computer.BAR_PX)
_DOCUMENT = Box(0, quirefold.TITLE_PX, quirefold.WIDTH, _QUIREFOLD.height - quirefold.TITLE_PX)


def _inside(box: tuple[int, int, int, int]) -> Box:
    left, top, width, height = box
    return Box(left, top + computer.TABS_PX, width, height - computer.TABS_PX)


_PAGE = _inside(computer.PAGES_BOX)


def _windows_alone(_: object) -> object:
    return computer.draw_second((None, False, False))


@dataclass(frozen=True)
class _Entry:
    """A device of the studio: how it opens, what it says, and how late it really is."""

    opens: Opener
    info: DeviceInfo
    latency_ms: float
    jitter_ms: float


def _info(
    id_: str,
    name: str,
    kind: str,
    modes: tuple[Mode, ...],
    reported_ms: float | None = None,
    part_of: str = "",
) -> DeviceInfo:
    return DeviceInfo(id_, name, kind, modes, reported_ms, part_of)


# What the sounds' drivers report is what converters of this kind report; the system-audio
# feed reports 4 ms too little and webcams nothing, as such devices do. The order decides
# which clock the seed gives to whom, so new devices go to the end.
_DEVICES: tuple[_Entry, ...] = (
    _Entry(
        SimulatedDisplay,
        _info("display-1", "Main display", "display", _picture(1920, 1080, 60, 30), 8.0),
        8.0,
        1.5,
    ),
    _Entry(
        SimulatedWebcam,
        _info(
            "webcam-1",
            "Desk webcam",
            "webcam",
            (*_picture(640, 360, 60), *_picture(1280, 720, 60), *_picture(1920, 1080, 30)),
        ),
        62.0,
        4.0,
    ),
    _Entry(_headset, _info("headset", "Headset", "microphone", _sound(48_000, 1), 11.3), 11.3, 1.2),
    _Entry(
        _system, _info("system", "System audio", "system-audio", _sound(48_000, 2), 20.0), 24.0, 1.2
    ),
    _Entry(
        SimulatedSecondDisplay,
        _info("display-2", "Second display", "display", _picture(2560, 1440, 60, 30), 8.0),
        8.0,
        1.5,
    ),
    _Entry(
        SimulatedTablet, _info("tablet", "Tablet", "tablet", _picture(1080, 1920, 60)), 35.0, 3.0
    ),
    _Entry(
        SimulatedOverhead,
        _info(
            "webcam-2",
            "Overhead webcam",
            "webcam",
            (*_picture(1280, 720, 30), *_picture(1920, 1080, 30), *_picture(3840, 2160, 15)),
        ),
        85.0,
        5.0,
    ),
    _Entry(
        _laptop,
        _info("laptop", "Laptop microphone", "microphone", _sound(44_100, 2), 12.0),
        18.0,
        2.0,
    ),
    _Entry(
        _webcam_sound,
        _info(
            "webcam-1/sound",
            "Microphone of the desk webcam",
            "microphone",
            _sound(16_000, 1),
            None,
            "webcam-1",
        ),
        40.0,
        3.0,
    ),
    _Entry(
        _window(_quirefold_state, quirefold.draw_document, _QUIREFOLD),
        _info(
            "display-1/quirefold",
            "Quirefold",
            "window",
            _picture(_QUIREFOLD.width, _QUIREFOLD.height, 60, 30),
            8.0,
            "display-1",
        ),
        8.0,
        1.5,
    ),
    _Entry(
        _window(_quirefold_state, quirefold.draw_document, _DOCUMENT),
        _info(
            "display-1/tide-almanac",
            "tide-almanac.quire",
            "tab",
            _picture(_DOCUMENT.width, _DOCUMENT.height, 60, 30),
            8.0,
            "display-1",
        ),
        8.0,
        1.5,
    ),
    _Entry(
        _window(
            lambda _: "rest",
            lambda _: quirefold.draw_document(quirefold.resting_document(), quirefold.DOCUMENTS[1]),
            _DOCUMENT,
        ),
        _info(
            "display-1/moth-atlas",
            "moth-atlas.quire",
            "tab",
            _picture(_DOCUMENT.width, _DOCUMENT.height, 60, 30),
            8.0,
            "display-1",
        ),
        8.0,
        1.5,
    ),
    _Entry(
        _window(lambda _: "rest", _windows_alone, Box(*computer.MAIL_BOX)),
        _info(
            "display-2/mail",
            "Mail",
            "window",
            _picture(*computer.MAIL_BOX[2:], 60, 30),
            8.0,
            "display-2",
        ),
        8.0,
        1.5,
    ),
    _Entry(
        _window(lambda _: "rest", _windows_alone, Box(*computer.CHAT_BOX)),
        _info(
            "display-2/messages",
            "Messages",
            "window",
            _picture(*computer.CHAT_BOX[2:], 60, 30),
            8.0,
            "display-2",
        ),
        8.0,
        1.5,
    ),
    _Entry(
        _window(lambda _: "rest", _windows_alone, _PAGE),
        _info(
            "display-2/paper-stock",
            computer.PAGE_TABS[0],
            "tab",
            _picture(_PAGE.width, _PAGE.height, 60, 30),
            8.0,
            "display-2",
        ),
        8.0,
        1.5,
    ),
    _Entry(
        _window(
            lambda _: "rest", lambda _: computer.radio_page(), Box(0, 0, _PAGE.width, _PAGE.height)
        ),
        _info(
            "display-2/bench-radio",
            computer.PAGE_TABS[1],
            "tab",
            _picture(_PAGE.width, _PAGE.height, 60, 30),
            8.0,
            "display-2",
        ),
        8.0,
        1.5,
    ),
    _Entry(
        _lesson("snaps"),
        _info(
            "system/quirefold",
            "Sound of Quirefold",
            "system-audio",
            _sound(48_000, 2),
            20.0,
            "system",
        ),
        24.0,
        1.2,
    ),
    _Entry(
        _lesson("music"),
        _info(
            "system/bench-radio",
            "Sound of Bench radio",
            "system-audio",
            _sound(48_000, 2),
            20.0,
            "system",
        ),
        24.0,
        1.2,
    ),
)
# In this order people read them.
_LISTED = (
    "display-1", "display-1/quirefold", "display-1/tide-almanac", "display-1/moth-atlas",
    "display-2", "display-2/mail", "display-2/messages", "display-2/paper-stock",
    "display-2/bench-radio", "tablet", "webcam-1", "webcam-2", "headset", "laptop",
    "webcam-1/sound", "system", "system/quirefold", "system/bench-radio",
)  # fmt: skip


class Studio:
    """The simulated room. `rates_ppm` sets clock rates by device id; others come from the seed."""

    def __init__(
        self, seed: int = DEFAULT_SEED, rates_ppm: Mapping[str, float] | None = None
    ) -> None:
        self.seed = seed
        self.switches = Switches()
        # What is drawn once for all is drawn by one thread, the others wait for it.
        self._drawing = threading.Lock()
        rng = np.random.default_rng(seed)
        self._plugs: dict[str, Plug] = {}
        self._opens = {entry.info.id: entry.opens for entry in _DEVICES}
        for number, entry in enumerate(_DEVICES):
            info = entry.info
            drawn_ppm = float(np.round(rng.uniform(-150, 150), 1))
            clock = DeviceClock(
                rate_ppm=(rates_ppm or {}).get(info.id, drawn_ppm),
                epoch_ns=int(rng.integers(1_000_000_000, 900_000_000_000)),
                latency_ns=round(entry.latency_ms * 1e6),
                jitter_ns=round(entry.jitter_ms * 1e6),
                seed=1000 * seed + number,
            )
            parent = self._plugs.get(info.part_of)
            self._plugs[info.id] = Plug(info, clock, self.switches, parent)

    def list_devices(self) -> Sequence[DeviceInfo]:
        """Every device that is plugged in."""
        plugs = (self._plugs[name] for name in _LISTED)
        return [replace(p.info, busy=p.busy) for p in plugs if not p.unplugged]

    def owns(self, device_id: str) -> bool:
        """Whether an id is of the studio."""
        return device_id in self._plugs

    def open_device(self, device_id: str, mode: Mode, from_ns: int) -> Device:
        """Open a device from a master time on. Raises DeviceError."""
        plug = self._plug(device_id)
        plug.need()
        if mode not in plug.info.modes:
            offered = ", ".join(m.in_words() for m in plug.info.modes)
            raise DeviceError(f"{plug.info.name} has no mode {mode.in_words()}; it has {offered}.")
        with self._drawing:
            return self._opens[device_id](plug, mode, from_ns)  # type: ignore[return-value]

    def surroundings(self, device_id: str) -> Sequence[Surrounding]:
        """What of the simulated computer is seen or heard besides."""
        return computer.surroundings(device_id, self.switches)

    def switch_surrounding(self, device_id: str, key: str, on: bool) -> None:
        """Turn a switch of the simulated computer. Raises DeviceError."""
        for found in self.surroundings(device_id):
            if found.key == key and found.switchable:
                setattr(self.switches, key, on)
                return
        raise DeviceError(f"The studio's computer has no switch “{key}” for {device_id}.")

    def warm_up(self) -> None:
        """Draw and synthesise what every device needs, so that opening them takes no time."""
        for info in self.list_devices():
            try:
                self.open_device(info.id, info.largest_mode, 0).close()
            except DeviceError:
                continue

    # what goes wrong, set off from the studio page and by tests

    def faults(self) -> list[tuple[DeviceInfo, dict[str, bool]]]:
        """Every device, plugged in or not, with its possible faults and whether they are on."""
        found = []
        for name in _LISTED:
            plug = self._plugs[name]
            kinds = PICTURE_FAULTS if plug.info.is_picture else SOUND_FAULTS
            found.append((plug.info, {fault: fault in plug.faults for fault in kinds}))
        return found

    def set_fault(self, device_id: str, fault: str, on: bool) -> None:
        """Set a fault off or end it. Raises DeviceError for one that there is not."""
        plug = self._plug(device_id)
        kinds = PICTURE_FAULTS if plug.info.is_picture else SOUND_FAULTS
        if fault not in kinds:
            known = ", ".join(FAULTS[k] for k in kinds)
            raise DeviceError(f"{plug.info.name} has no fault “{fault}”; it has: {known}.")
        plug.faults.add(fault) if on else plug.faults.discard(fault)

    def jump_clock(self, device_id: str) -> None:
        """Have a device's clock jump."""
        self._plug(device_id).jump_clock()

    def _plug(self, device_id: str) -> Plug:
        if device_id not in self._plugs:
            known = ", ".join(self._plugs)
            raise DeviceError(
                f"No device “{device_id}” is plugged in; there are {known}.", "unplugged"
            )
        return self._plugs[device_id]


def demo_rig() -> Rig:
    """The rig of the demo scenario: four tracks of the whole studio, the rest at hand."""
    devices = {d.id: d for d in Studio().list_devices()}

    def made(device_id: str, recorded: bool = False, on: bool = True) -> Input:
        item = input_of_device(devices[device_id], device_id.replace("/", "-"))
        return replace(item, recorded=recorded, on=on)

    display = replace(made("display-1", recorded=True), mode=Mode(1920, 1080, Fraction(30)))
    webcam = replace(made("webcam-1", recorded=True), looks=Looks(turn=180))
    bench = replace(made("webcam-2"), mode=Mode(1920, 1080, Fraction(30)))
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
        replace(made("laptop", on=False), tone=Tone(gain_db=6.0)),
        system,
        title,
    )
    format_ = Format()
    frame = format_.frame
    voice, music = scene_sound(headset), scene_sound(system)
    corner = corner_square(frame.width, frame.height)
    beside = fit_inside(*tablet.size, Box(1380, 60, 480, 700))
    scenes = (
        first_scene("Sheet and me", (display, webcam, headset, system), format_),
        Scene(
            "scene-2",
            "At the bench",
            (
                whole_layer(bench, frame),
                whole_layer(tablet, beside),
                whole_layer(webcam, corner, "circle"),
            ),
            (voice, music),
        ),
        Scene("scene-3", "Title", (whole_layer(title, frame),), (music,)),
    )
    return Rig("Bench rig", inputs, scenes, format_)
