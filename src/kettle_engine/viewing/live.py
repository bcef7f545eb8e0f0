"""What pages see and hear of a rig: the newest of every input, read from the rings."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from kettle_core.errors import EngineError, PictureError
from kettle_core.picture.picture import Picture, picture_from_i420
from kettle_core.rig.rig import Input, Rig
from kettle_core.rig.used_picture import as_used
from kettle_core.scene.scene import Scene
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.cueing import TakeCues
from kettle_engine.devices.report import LIVE, SourceReport
from kettle_engine.rings.places import ring_name
from kettle_engine.rings.ring import RingReader
from kettle_engine.viewing.early_take import EarlyTake
from kettle_engine.viewing.meter import Meter
from kettle_engine.viewing.watch import InputState, PictureWatch, source_state
from kettle_media.rig.stills import rgba_to_picture, still_image

STATE_SOUNDS = {"hears": "live", "quiet": "live", "nothing": "fault", "clipping": "look"}


@dataclass(frozen=True)
class Tried:
    """A scene as somebody is about to change it on the drawing table."""

    scene: Scene
    until_s: float


@dataclass(frozen=True)
class Played:
    """A change-over that is played for a page, on the monotonic clock."""

    scene_id: str
    to_id: str
    since_s: float


@dataclass(frozen=True)
class Newest:
    """The newest picture, and another number whenever it looks different."""

    picture: Picture
    number: int


@dataclass
class _Opened:
    """A ring that is read, and what was made of its newest picture."""

    reader: RingReader
    ring: str
    newest: "Newest | None" = None


@dataclass
class Live:
    """A rig that is open, with the devices beside it that pages look at.

    Pictures are as their inputs use them: cropped, turned, mirrored.
    """

    library: Path
    rig: Rig
    owner: str = ""
    inputs: dict[str, Input] = field(default_factory=dict)
    meters: dict[str, Meter] = field(default_factory=dict)
    tried: dict[str, Tried] = field(default_factory=dict)
    played: Played | None = None
    # Of the take that is recorded; before one, the scene that it will begin with.
    cues: TakeCues | None = None
    first_scene_id: str = ""
    _watches: dict[str, PictureWatch] = field(default_factory=dict)
    _sources: Mapping[str, SourceReport] = field(default_factory=dict)
    _opened: dict[str, _Opened] = field(default_factory=dict)
    _stills: dict[str, Newest] = field(default_factory=dict)
    # What the program of a take showed last; a device that is away shows it on, as composed.
    _last_shown: dict[str, Newest] = field(default_factory=dict)
    _early: EarlyTake | None = None

    def set_cues(self, cues: TakeCues | None) -> None:
        """A take has begun, or what its cues have come to is new; None when it is over."""
        if cues is None or self.cues is None:
            self._last_shown = {}
        if self._early and (cues is None or cues.folder != self._early.cues.folder):
            self._early.end()
            self._early = None
        if cues and self._early is None:
            self._early = EarlyTake(cues, self._latency_ns)
        self.cues = cues

    def _latency_ns(self, name: str) -> int:
        report = self._sources.get(name)
        told_ms = report.facts.reported_latency_ms if report and report.facts else None
        return round((told_ms or 0.0) * 1e6)

    def look_early(self, now_ns: int) -> None:
        """Keep a small picture a second of a take that is recorded."""
        for name in self._watches if self._early else ():
            opened, item = self._open(name), self.inputs.get(name)
            if self._early and opened and item:
                self._early.see(item, opened.reader, now_ns)

    def set_rig(self, rig: Rig, inputs: Sequence[Input], owner: str) -> None:
        """Show a rig as it is now."""
        if rig != self.rig:
            self.tried = {}
        self.rig, self.owner = rig, owner or self.owner
        before = self.inputs
        # What is looked up of an input is there before it is listed.
        for item in inputs:
            old = before.get(item.id)
            if item.is_still:
                self._show_still(item)
            elif old is None or (old.device, old.mode) != (item.device, item.mode):
                if item.is_picture:
                    self._watches[item.id] = PictureWatch(item)
                else:
                    self.meters[item.id] = Meter(item)
            elif not item.is_picture:
                self.meters[item.id].input = item
        self.inputs = {i.id: i for i in inputs}
        for kept in (self.meters, self._watches, self._opened, self._stills, self._last_shown):
            for gone in kept.keys() - self.inputs.keys():
                kept.pop(gone, None)

    def set_sources(self, sources: Mapping[str, SourceReport]) -> None:
        """How the devices are now, by input."""
        self._sources = sources

    @property
    def first_scene(self) -> Scene:
        """The scene that a take begins with."""
        chosen = (s for s in self.rig.scenes if s.id == self.first_scene_id)
        return next(chosen, self.rig.default_scene)

    def read_sounds(self) -> None:
        """Give the meters what has come."""
        for name, meter in list(self.meters.items()):
            opened = self._open(name)
            if opened:
                meter.ring = opened.reader
            while opened and (got := opened.reader.read()):
                block = got.fetch()
                if block is not None:
                    meter.take(block)
                    if self._early:
                        self._early.hear(meter.input, block, got.master_ns)

    def newest(self, name: str) -> Newest | None:
        """The newest picture of an input, as it is used; None while there is none."""
        if name in self._stills:
            return self._stills[name]
        opened = self._open(name)
        if opened is None or name in self.meters:
            return None
        place = opened.reader.newest_place()
        if opened.newest is None or opened.newest.number != place:
            got = opened.reader.newest()
            data = got.fetch() if got else None
            if data is not None:
                opened.newest = Newest(picture_from_i420(data), place)
        return opened.newest

    def at(self, name: str, master_ns: float) -> Newest | None:
        """The picture of an input that a composed program shows at a master time.

        It is the one that was captured last by then, or half a frame later; the newest one where
        only that is kept. Where there is none, not kept long enough or its device away, it is
        the one that was shown last.
        """
        item, report = self.inputs.get(name), self._sources.get(name)
        if name in self._stills or item is None or not item.has_track:
            return self.newest(name)
        opened = self._open(name)
        if opened is None or report is None:
            return self._last_shown.get(name)
        half_ns = NS_PER_S / item.mode.fps / 2
        found = opened.reader.at(round(master_ns + half_ns) + self._latency_ns(name))
        if found is None:
            return self._last_shown.get(name) or self.newest(name)
        capture, place = found
        number = hash((opened.ring, place))
        last = self._last_shown.get(name)
        if last is None or last.number != number:
            data = capture.fetch()
            if data is None:
                return last or self.newest(name)
            last = self._last_shown[name] = Newest(picture_from_i420(data), number)
        return last

    def states(self, now_s: float) -> dict[str, InputState]:
        """How every open input is."""
        found = {}
        for name, report in self._sources.items():
            fault = source_state(report)
            if name not in self.inputs:
                continue
            if fault:
                found[name] = fault
            elif watch := self._watches.get(name):
                watch.take(report, now_s)
                opened = self._open(name)
                newest = opened.reader.newest() if opened else None
                if newest and watch.is_new(newest.no):
                    newest.use(partial(watch.look, number=newest.no, now_s=now_s))
                found[name] = watch.state(now_s)
            elif meter := self.meters.get(name):
                heard = meter.state()
                found[name] = InputState(STATE_SOUNDS[heard.word], heard.sentence)
        return found

    def meter(self, name: str) -> Meter:
        """The meter of a sound that is open. Raises EngineError."""
        if name not in self.meters:
            raise EngineError("This input is not open, so it was not heard. Reload the page.")
        return self.meters[name]

    def tried_scene(self, scene_id: str, now_s: float) -> Scene | None:
        """The scene as it is tried at the moment; `now_s` on the monotonic clock."""
        tried = self.tried.get(scene_id)
        return tried.scene if tried and tried.until_s > now_s else None

    def _open(self, name: str) -> _Opened | None:
        """The ring of an input, if its device is there."""
        report, item = self._sources.get(name), self.inputs.get(name)
        if report is None or item is None or report.state != LIVE or not report.ring:
            self._opened.pop(name, None)
            return None
        opened = self._opened.get(name)
        if opened and opened.ring == report.ring:
            return opened
        if Path(report.ring).stem != ring_name(item):
            # The device is about to be used in another way.
            return opened
        try:
            opened = _Opened(RingReader(Path(report.ring)), report.ring)
        except (OSError, EngineError):
            return None
        self._opened[name] = opened
        return opened

    def _show_still(self, item: Input) -> None:
        stamp = hash((item.still, item.card, item.mode, item.looks))
        if item.id in self._stills and self._stills[item.id].number == stamp:
            return
        try:
            picture = rgba_to_picture(still_image(item, self.library))
            self._stills[item.id] = Newest(as_used(picture, item.looks), stamp)
        except PictureError:
            self._stills.pop(item.id, None)
