"""A take for the pages of a rig: pictures and sounds of its tracks where devices would be.

Start it with `python -m kettle_engine.viewing.take_viewer TAKE DOOR DATA`. It answers at the
addresses of the folder DOOR as the engine does at those of its data folder, as far as a viewer
can, and ends when nobody has looked for a while.
"""

import sys
import time
import traceback
from collections.abc import Callable, Mapping
from dataclasses import asdict
from functools import partial
from pathlib import Path
from typing import Any

import zmq

from kettle_core.errors import EngineError, KettleError
from kettle_engine.addresses import command_address, live_address, open_socket_folder
from kettle_engine.clock import WallClock
from kettle_engine.process import work_frame_by_frame
from kettle_engine.protocol import WATCHING
from kettle_engine.question import Question
from kettle_engine.viewing.commands import Commands
from kettle_engine.viewing.live import Live
from kettle_engine.viewing.publisher import Publisher
from kettle_engine.viewing.take_live import TakeLive
from kettle_media.priority import SHOWS, rank
from kettle_media.rig_document import rig_from_dict
from kettle_media.take.folder import TakeFolder

ALONE_S = 30.0
Values = Mapping[str, Any]


class TakeViewer:
    """Answers and publishes in one thread.

    Parameters
    ----------
    folder : the take
    door : a folder whose addresses it answers at
    data_dir : where what was listened to is kept
    """

    def __init__(self, folder: TakeFolder, door: Path, data_dir: Path) -> None:
        self._take = TakeLive(folder)
        self.live: Live | None = self._take
        self._owner, self._inputs = "", dict[str, Any]()
        open_socket_folder(door)
        self._socket: zmq.Socket[bytes] = zmq.Context.instance().socket(zmq.ROUTER)
        self._publisher = Publisher(
            self, live_address(door), folder.stills_path, WallClock(time.monotonic_ns())
        )
        self._seen = Commands(data_dir, self._publisher.feed.identify)
        self._own: dict[str, Callable[[Values], Any]] = {
            "status": lambda _: self.status(),
            "open_rig": self._open_rig,
            "head": self._go,
        }
        self._asked_at_s = time.monotonic()
        # Whoever can connect is answered: last of all.
        self._socket.bind(command_address(door))

    def run(self) -> None:
        """Show until nobody looks."""
        while time.monotonic() - max(self._asked_at_s, self._publisher.watched_at_s) < ALONE_S:
            while self._socket.poll(0):
                *envelope, body = self._socket.recv_multipart()
                self._do(Question(body, partial(self._send, envelope)))
            self._take.read_sounds()
            wait_s = self._publisher.step()
            self._socket.poll(round(wait_s * 1000))
        self._publisher.close()
        self._socket.close(linger=0)
        self._take.close()

    def status(self) -> dict[str, Any]:
        """What pages are told."""
        inputs = {name: asdict(s) for name, s in self._take.states(0.0).items()}
        return {"state": WATCHING, "rig": self._owner, "message": "", "inputs": inputs}

    def tell_wanted(self, names: frozenset[str]) -> None:
        """All of a take is there."""

    def _send(self, envelope: list[bytes], body: bytes) -> None:
        self._socket.send_multipart([*envelope, body])

    def _do(self, question: Question) -> None:
        self._asked_at_s = time.monotonic()
        if question.is_answered or time.monotonic_ns() > question.deadline_ns:
            return
        try:
            own = self._own.get(question.do)
            if own:
                question.answer(own(question.values))
            else:
                question.answer(self._seen.do(question.do, self.live, question.values))
        except KettleError as error:
            question.answer(error)
        except (KeyError, TypeError, ValueError) as error:
            question.answer(EngineError(f"This can't be asked of a take: {error!r}."))
        except Exception as error:  # one question must not end what is shown
            traceback.print_exc()
            question.answer(EngineError(f"The take's viewer failed: {error!r}."))

    def _open_rig(self, values: Values) -> None:
        self._owner = str(values.get("owner", ""))
        self._take.set_rig(rig_from_dict(values["rig"]), (), self._owner)

    def _go(self, values: Values) -> None:
        self._take.go(float(values["at"]), bool(values.get("playing")))


def main() -> int:
    """Show the take that is given."""
    take, door, data_dir = (Path(word) for word in sys.argv[1:4])
    rank(SHOWS)
    work_frame_by_frame()
    try:
        viewer = TakeViewer(TakeFolder(take), door, data_dir)
    except KettleError as error:
        print(error, file=sys.stderr)
        return 2
    viewer.run()
    return 0


if __name__ == "__main__":
    sys.exit(main())
