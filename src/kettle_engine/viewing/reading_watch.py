"""Measures text heights on live displays, beside everything else, and remembers them."""

from concurrent.futures import Future, ThreadPoolExecutor, wait

from kettle_core.picture.reading import smallest_text_px
from kettle_engine.viewing.live import Live
from kettle_media.priority import lower_priority

PATIENCE_S = 0.6


class ReadingWatch:
    """One thread measures; who asks gets the newest that is known."""

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(1, "reading", initializer=lambda: lower_priority(10))
        self._known: dict[str, tuple[int, float | None]] = {}
        self._running: dict[str, Future[None]] = {}

    def ask(self, live: Live, names: list[str]) -> dict[str, float | None]:
        """Heights in px of the smallest text of displays; those not measured yet are missing."""
        for name in names:
            newest, item = live.newest(name), live.inputs.get(name)
            running = self._running.get(name)
            if newest is None or item is None or not item.is_picture:
                continue
            number = newest.number
            if self._known.get(name, (None,))[0] == number or (running and not running.done()):
                continue
            luma = newest.picture.y

            def measure(name: str = name, number: int = number, luma: object = luma) -> None:
                self._known[name] = (number, smallest_text_px(luma))  # type: ignore[arg-type]

            self._running[name] = self._pool.submit(measure)
        unknown = [self._running[n] for n in names if n not in self._known and n in self._running]
        wait(unknown, timeout=PATIENCE_S)
        return {n: self._known[n][1] for n in names if n in self._known}

    def close(self) -> None:
        """End the thread."""
        self._pool.shutdown(wait=True, cancel_futures=True)
