"""Work done a little ahead in a thread of its own, so that steps of a chain overlap."""

import queue
import threading
from collections.abc import Generator, Iterable, Iterator
from contextlib import contextmanager
from typing import TypeVar

T = TypeVar("T")
_STOPPED_S = 0.1


@contextmanager
def ahead(items: Iterable[T], most: int, name: str) -> Iterator[Generator[T, None, None]]:
    """Run an iterable in a thread, at most so many items ahead of who takes them.

    What it raises is raised where its items are taken. On leaving the thread is stopped at its
    next item and waited for, and the iterable is closed.
    """
    waiting: queue.Queue[tuple[str, object]] = queue.Queue(most)
    stopped = threading.Event()

    def put(kind: str, value: object) -> bool:
        while not stopped.is_set():
            try:
                waiting.put((kind, value), timeout=_STOPPED_S)
                return True
            except queue.Full:
                continue
        return False

    def work() -> None:
        try:
            for item in items:
                if not put("item", item):
                    return
            put("end", None)
        except Exception as error:
            put("error", error)
        finally:
            close = getattr(items, "close", None)
            if close:
                close()

    def results() -> Generator[T, None, None]:
        while True:
            kind, value = waiting.get()
            if kind == "end":
                return
            if kind == "error" and isinstance(value, Exception):
                raise value
            yield value  # type: ignore[misc]

    thread = threading.Thread(target=work, name=name, daemon=True)
    thread.start()
    try:
        yield results()
    finally:
        stopped.set()
        thread.join()
