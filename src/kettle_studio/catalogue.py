"""What stands in the simulated room: every device, how it opens and how late it really is."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction

from kettle_core.rig.devices import DeviceInfo, Mode
from kettle_core.scene.layout import Box
from kettle_studio import computer, quirefold, sounds, world
from kettle_studio.devices import (
    Plug,
    SimulatedDevice,
    SimulatedDisplay,
    SimulatedOverhead,
    SimulatedSecondDisplay,
    SimulatedTablet,
    SimulatedWebcam,
    SimulatedWindow,
)
from kettle_studio.heard import SimulatedSound

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
        plug, mode, from_ns, sounds.headset, lambda: sounds.noise_sound(seed, -62.0)
    )


def _laptop(plug: Plug, mode: Mode, from_ns: int) -> SimulatedDevice:
    """Far away, beside its own fan, with the mains in it."""
    seed, rate_hz = plug.own_clock.seed, mode.sample_rate_hz

    def noise() -> sounds.Sound:
        fan = sounds.noise_sound(seed, -48.0, rate_hz)
        return fan + sounds.hum_sound(-46.0, rate_hz)

    return SimulatedSound(plug, mode, from_ns, lambda: sounds.far(31, 2, 0.6, 7000), noise)


def _webcam_sound(plug: Plug, mode: Mode, from_ns: int) -> SimulatedDevice:
    seed, rate_hz = plug.own_clock.seed, mode.sample_rate_hz
    return SimulatedSound(
        plug,
        mode,
        from_ns,
        lambda: sounds.far(32, 1, 0.4, 3400),
        lambda: sounds.noise_sound(seed, -44.0, rate_hz),
    )


def _system(plug: Plug, mode: Mode, from_ns: int) -> SimulatedDevice:
    """All that the computer plays; with the bells of messages where they are on."""

    def table() -> sounds.Table:
        return sounds.system(plug.switches.pings and plug.switches.messages)

    return SimulatedSound(plug, mode, from_ns, table)


def _single(table: Callable[[], sounds.Table]) -> Opener:
    return lambda plug, mode, from_ns: SimulatedSound(plug, mode, from_ns, table)


def _quirefold_state(world_s: float) -> world.Desktop:
    return replace(world.desktop_at(world_s), pointer=(0, 0))


_QUIREFOLD = Box(0, 0, quirefold.WIDTH, quirefold.HEIGHT - computer.BAR_PX)
_DOCUMENT = Box(0, quirefold.TITLE_PX, quirefold.WIDTH, _QUIREFOLD.height - quirefold.TITLE_PX)


def _inside(box: tuple[int, int, int, int]) -> Box:
    left, top, width, height = box
    return Box(left, top + computer.TABS_PX, width, height - computer.TABS_PX)


_PAGE = _inside(computer.PAGES_BOX)


def _at_rest(_: float) -> object:
    return "rest"


def _draw_atlas(_: object) -> object:
    return quirefold.draw_document(quirefold.resting_document(), quirefold.DOCUMENTS[1])


def _windows_alone(_: object) -> object:
    return computer.draw_second((None, False, False))


@dataclass(frozen=True)
class Entry:
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


def _part_of(
    display: str,
    name: str,
    title: str,
    kind: str,
    box: Box,
    state: Callable[[float], object],
    paint: Callable[..., object],
) -> Entry:
    """A window or tab of a display, by what it shows and where that is drawn."""
    modes = _picture(box.width, box.height, 60, 30)
    info = _info(f"{display}/{name}", title, kind, modes, 8.0, display)
    return Entry(_window(state, paint, box), info, 8.0, 1.5)


def _single_sound(name: str, title: str, table: Callable[[], sounds.Table]) -> Entry:
    """One program's sound out of system audio."""
    info = _info(f"system/{name}", title, "system-audio", _sound(48_000, 2), 20.0, "system")
    return Entry(_single(table), info, 24.0, 1.2)


# What the sounds' drivers report is what converters of this kind report; the system-audio
# feed reports 4 ms too little and webcams nothing, as such devices do. The order decides
# which clock the seed gives to whom, so new devices go to the end.
DEVICES: tuple[Entry, ...] = (
    Entry(
        SimulatedDisplay,
        _info("display-1", "Main display", "display", _picture(1920, 1080, 60, 30), 8.0),
        8.0,
        1.5,
    ),
    Entry(
        SimulatedWebcam,
        _info(
            "webcam-1",
            "Desk webcam",
            "webcam",
            (*_picture(640, 360, 60, 30), *_picture(1280, 720, 60), *_picture(1920, 1080, 30)),
        ),
        62.0,
        4.0,
    ),
    Entry(_headset, _info("headset", "Headset", "microphone", _sound(48_000, 1), 11.3), 11.3, 1.2),
    Entry(
        _system, _info("system", "System audio", "system-audio", _sound(48_000, 2), 20.0), 24.0, 1.2
    ),
    Entry(
        SimulatedSecondDisplay,
        _info("display-2", "Second display", "display", _picture(2560, 1440, 60, 30), 8.0),
        8.0,
        1.5,
    ),
    Entry(
        SimulatedTablet, _info("tablet", "Tablet", "tablet", _picture(1080, 1920, 60)), 35.0, 3.0
    ),
    Entry(
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
    Entry(
        _laptop,
        _info("laptop", "Laptop microphone", "microphone", _sound(44_100, 2), 12.0),
        18.0,
        2.0,
    ),
    Entry(
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
    _part_of(
        "display-1", "quirefold", "Quirefold", "window", _QUIREFOLD, _quirefold_state,
        quirefold.draw_document,
    ),
    _part_of(
        "display-1", "tide-almanac", "tide-almanac.quire", "tab", _DOCUMENT, _quirefold_state,
        quirefold.draw_document,
    ),
    _part_of(
        "display-1", "moth-atlas", "moth-atlas.quire", "tab", _DOCUMENT, _at_rest, _draw_atlas
    ),
    _part_of(
        "display-2", "mail", "Mail", "window", Box(*computer.MAIL_BOX), _at_rest, _windows_alone
    ),
    _part_of(
        "display-2", "messages", "Messages", "window", Box(*computer.CHAT_BOX), _at_rest,
        _windows_alone,
    ),
    _part_of(
        "display-2", "paper-stock", computer.PAGE_TABS[0], "tab", _PAGE, _at_rest, _windows_alone
    ),
    _part_of(
        "display-2", "bench-radio", computer.PAGE_TABS[1], "tab",
        Box(0, 0, _PAGE.width, _PAGE.height), _at_rest, lambda _: computer.radio_page(),
    ),
    _single_sound("quirefold", "Sound of Quirefold", sounds.snaps),
    _single_sound("bench-radio", "Sound of Bench radio", sounds.music),
)  # fmt: skip
# In this order people read them.
LISTED = (
    "display-1", "display-1/quirefold", "display-1/tide-almanac", "display-1/moth-atlas",
    "display-2", "display-2/mail", "display-2/messages", "display-2/paper-stock",
    "display-2/bench-radio", "tablet", "webcam-1", "webcam-2", "headset", "laptop",
    "webcam-1/sound", "system", "system/quirefold", "system/bench-radio",
)  # fmt: skip
