"""Live pictures for pages: of inputs, scenes, layers and the program, as far as watched."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

from kettle_core.rig.rig import Input
from kettle_engine.clock import Clock
from kettle_engine.pace import MOST_PER_S, every_s
from kettle_engine.protocol import (
    PICTURE,
    PROGRAM,
    RECORDING,
    SCENE_SIZES,
    SHOWN_WIDTH,
    SIZES,
    WHOLE,
)
from kettle_engine.viewing.live import Live, Newest
from kettle_engine.viewing.outbox import Outbox
from kettle_engine.viewing.scene_pictures import ScenePictures, Shown, shrunk_for_page
from kettle_engine.viewing.small import labelled, small_picture
from kettle_media.picture.jpeg import picture_to_page_jpeg

# While a layer is dragged or a change-over is played.
LIVELY_EVERY_S = every_s(MOST_PER_S)
# Small pictures beside the program while a take is recorded: what shows gives way.
IN_TAKE_EVERY_S = {"small": every_s(5), "thumb": 2.0}
IDENTIFY_S = 4.0
# Scenes shown so small are composed at so many times what is shown.
SMALL_BELOW, SMALL_TIMES = 400, 2


class Shows(Protocol):
    """What the pages are told of, and to whom it is said what is looked at."""

    live: Live | None

    def status(self) -> dict[str, Any]:
        """Figures for pages."""

    def tell_wanted(self, names: frozenset[str]) -> None:
        """Whose pictures are looked at now."""


class PictureFeed:
    """Sends pictures; between two of them `between` sends what can't wait. For one thread."""

    def __init__(
        self,
        shows: Shows,
        outbox: Outbox,
        library: Path,
        clock: Clock,
        between: Callable[[], None],
    ) -> None:
        self._shows, self._outbox, self._between = shows, outbox, between
        self._clock = clock
        self._scenes = ScenePictures(library)
        self._wanted: frozenset[str] | None = None
        self._identify_until_s = 0.0

    def identify(self) -> None:
        """Lay a large label over every display's live picture for some seconds."""
        self._identify_until_s = time.monotonic() + IDENTIFY_S
        self._outbox.forget()

    def forget_wanted(self) -> None:
        """Tell anew whose pictures are looked at."""
        self._wanted = None

    def program(self, live: Live) -> None:
        """The program's picture."""
        shown = self._scenes.program(live, self._clock.now_ns())
        self._send_shown(shown, PROGRAM, SHOWN_WIDTH, 82)

    def _send_scene(
        self, live: Live, topic: bytes, scene_id: str, layer_id: str, width: int, quality: int
    ) -> None:
        """A scene's picture, or a layer's matte in it."""
        if layer_id:
            shown = self._scenes.matte(live, scene_id, layer_id)
        else:
            small = SMALL_TIMES * width if width < SMALL_BELOW else 0
            shown = self._scenes.shown(live, scene_id, small)
        self._send_shown(shown, topic, width, quality)

    def _send_shown(self, shown: Shown | None, topic: bytes, width: int, quality: int) -> None:
        """Send a picture if it looks different from the last one."""
        if shown is None:
            return
        looks_different = self._outbox.is_new(topic, shown.stamp)
        # What looks as before is looked at again in its turn too, not at each step.
        self._outbox.mark(topic, shown.stamp)
        if not looks_different:
            return
        name = topic.decode().rpartition("/")[2]
        small = shrunk_for_page(shown.frame, width)
        self._outbox.send(topic, {"input": name}, picture_to_page_jpeg(small, quality))

    def pictures(self, live: Live) -> None:
        """All pictures that are due."""
        now = time.monotonic()
        topics = [t for t in self._outbox.watched if t.startswith(PICTURE)]
        self._tell_wanted(live, topics)
        identifying = now < self._identify_until_s
        if live.played or live.tried:
            # What somebody drags or plays is waited for; the rest stands still meanwhile.
            topics = self._lively(live, topics)
        for topic in topics:
            size, _, name = topic.decode()[len(PICTURE) :].partition("/")
            if size in SCENE_SIZES:
                self._scene_picture(live, topic, size, name)
                continue
            if size not in SIZES:
                continue
            box, every_s, quality = SIZES[size]
            every_s = self._gives_way(size) or every_s
            # Asked before the picture is: that is copied when it is read.
            if not self._outbox.is_due(topic, every_s):
                continue
            newest, item = self._newest(live, name, size)
            if newest is None or item is None:
                continue
            labels = identifying and item.kind == "display"
            number = hash((newest.number, labels, item.looks, id(live)))
            if not self._outbox.is_new(topic, number):
                continue
            self._outbox.mark(topic, number)
            picture = newest.picture
            small = small_picture(picture, *box)
            if labels:
                small = labelled(small, item)
            header = {"input": name, "width": picture.width, "height": picture.height}
            self._outbox.send(topic, header, picture_to_page_jpeg(small, quality))
            self._between()

    @staticmethod
    def _newest(live: Live, name: str, size: str) -> tuple[Newest | None, Input | None]:
        """An input's picture; the whole of it is that of an input beside it once that is open."""
        item = live.inputs.get(name)
        if size == "whole" and item and item.looks.crop:
            name = WHOLE + name
            item = live.inputs.get(name)
        return live.newest(name), item

    def _lively(self, live: Live, topics: list[bytes]) -> list[bytes]:
        sheets = [t for t in topics if t.startswith(PICTURE + b"scene/")]
        now = time.monotonic()
        if live.played or any(live.tried_scene(s, now) for s in live.tried):
            return sheets
        return topics

    def _scene_picture(self, live: Live, topic: bytes, size: str, name: str) -> None:
        """`name` is scene:ID, thumb:ID or matte:ID:LAYER, so that it differs from an input's."""
        width, every_s, quality = SCENE_SIZES[size]
        _, scene_id, layer_id = (*name.split(":"), "", "")[:3]
        now = time.monotonic()
        lively = live.played is not None or live.tried_scene(scene_id, now) is not None
        if lively and size == "scene":
            every_s = LIVELY_EVERY_S
        every_s = self._gives_way(size) or every_s
        if self._outbox.is_due(topic, every_s):
            self._send_scene(live, topic, scene_id, layer_id, width, quality)
            self._between()

    def _gives_way(self, size: str) -> float | None:
        """The least time between two pictures of a size in a take, where it is another one, s."""
        in_take = self._shows.status()["state"] == RECORDING
        return IN_TAKE_EVERY_S.get(size) if in_take else None

    def _tell_wanted(self, live: Live, topics: list[bytes]) -> None:
        names: set[str] = set()
        for topic in topics:
            size, _, name = topic.decode()[len(PICTURE) :].partition("/")
            if size == "whole":
                names.add(WHOLE + name)
            elif size in SIZES and size != "rest":
                names.add(name)
            elif size in ("scene", "matte"):
                names |= self._scenes.inputs_of(live, (*name.split(":"), "")[1])
        if self._outbox.watched.get(PROGRAM):
            names |= self._scenes.program_inputs(live, self._clock.now_ns())
        wanted = frozenset(names)
        if wanted != self._wanted:
            self._wanted = wanted
            self._shows.tell_wanted(wanted)
