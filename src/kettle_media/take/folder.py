"""A take on disk: its folder and what lies in it (docs/take-format.md)."""

import contextlib
import fcntl
import os
import time
from collections.abc import Callable, Iterator
from glob import escape
from pathlib import Path

from kettle_core.errors import TakeError
from kettle_core.sound.routing import Stem
from kettle_media.durable import replace_file
from kettle_media.take.info import TakeInfo, TrackInfo, take_from_json, with_id

# Kept free inside a take's folder so that its end can be written on a full disk.
ROOM_BYTES = 512 * 1024
LOOK_AGAIN_S = 0.2
# Endings of playable copies by a track's codec.
PLAYABLE = {"h264": ".mp4", "flac": ".flac", "pcm24": ".wav"}


class TakeFolder:
    """Paths and files of one take."""

    def __init__(self, path: Path) -> None:
        self.path = path

    @classmethod
    def create(cls, path: Path) -> "TakeFolder":
        """Make a new folder for a take. Raises TakeError if something is there already."""
        if path.exists() and (not path.is_dir() or any(path.iterdir())):
            raise TakeError(
                f"{path} exists and is not empty; nothing was written. "
                "Choose a new folder or empty this one."
            )
        try:
            (path / "tracks").mkdir(parents=True)
        except OSError as error:
            raise TakeError(f"The folder {path} cannot be made: {error.strerror}.") from error
        return cls(path)

    @property
    def program_path(self) -> Path:
        """The composed program."""
        return self.path / "program.mp4"

    @property
    def stems_path(self) -> Path:
        """The stems of the rig, cleaned and mixed, by their ids."""
        return self.path / "stems"

    def stem_path(self, stem: Stem) -> Path:
        """The file of a stem of the rig; takes from before have them in another folder."""
        found = self.stems_path / f"{stem.id}.flac"
        older = self.path / "sounds" / found.name
        return older if older.is_file() and not found.is_file() else found

    @property
    def cleaned_path(self) -> Path:
        """Sounds through their chains, kept as long as the chains' values are the same."""
        return self.path / "cleaned"

    @property
    def stills_path(self) -> Path:
        """Pictures and text cards as they were in the rig, by input id."""
        return self.path / "stills"

    @property
    def journal_path(self) -> Path:
        """What happened, a line each."""
        return self.path / "journal.jsonl"

    @property
    def cues_path(self) -> Path:
        """What was changed while it was recorded, a line each."""
        return self.path / "cues.jsonl"

    def track_path(self, track: TrackInfo, part: int = 1) -> Path:
        """The Matroska file of a track; a later part where its writing was broken off."""
        path = self.path / track.file
        return path if part == 1 else path.with_suffix(f".{part}.mkv")

    def times_path(self, track: TrackInfo, part: int = 1) -> Path:
        """The sidecar of a track, or of a part of it."""
        return self.track_path(track, part).with_suffix(".times.csv")

    def parts(self, track: TrackInfo) -> list[int]:
        """The numbers of a track's parts that are there, in order.

        A recorder that died before it had opened a track has left out that one's number.
        """
        first = self.track_path(track)
        numbers = (
            path.name.split(".")[-2] for path in first.parent.glob(f"{escape(first.stem)}.*.mkv")
        )
        later = sorted(int(number) for number in numbers if number.isdecimal())
        return [*([1] if first.exists() else []), *later]

    def playable_path(self, track: TrackInfo) -> Path:
        """The rewrapped copy of a track that every player opens."""
        suffix = PLAYABLE[track.codec]
        return self.path / "playable" / (track.name + suffix)

    def keep_room(self) -> None:
        """Keep a little of the disk for the end of the take."""
        with contextlib.suppress(OSError):
            descriptor = os.open(self._room_path, os.O_CREAT | os.O_WRONLY, 0o600)
            try:
                os.posix_fallocate(descriptor, 0, ROOM_BYTES)
            finally:
                os.close(descriptor)

    def give_room(self) -> None:
        """Let go what `keep_room` kept."""
        with contextlib.suppress(OSError):
            self._room_path.unlink(missing_ok=True)

    @property
    def _room_path(self) -> Path:
        return self.path / ".room"

    @contextlib.contextmanager
    def held(self) -> Iterator[None]:
        """Say to other processes that the take is being written. Raises TakeError if it is."""
        descriptor = os.open(self.path, os.O_RDONLY)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            yield
        except BlockingIOError as error:
            raise TakeError(f"{self.path.name} is being written by another process.") from error
        finally:
            os.close(descriptor)

    @contextlib.contextmanager
    def composing(self, give_way: Callable[[], None]) -> Iterator[None]:
        """Be the only one who composes the take; who does so already is waited for.

        What one who was killed has left half written is removed.
        """
        with self.alone(give_way):
            for place in (self.path, self.stems_path):
                for half in place.glob(".*.part.*"):
                    half.unlink(missing_ok=True)
            yield

    @contextlib.contextmanager
    def alone(
        self, give_way: Callable[[], None], at_once: bool = False, place: Path | None = None
    ) -> Iterator[None]:
        """Be the only one who makes something of the take, or in a place of it; who does so
        already is waited for.

        Who must go on `at_once` waits for nobody: who makes it may have the lowest rank of all, or
        be waiting itself until another take has ended.
        """
        descriptor = os.open(place or self.path / "tracks", os.O_RDONLY)
        try:
            while True:
                try:
                    fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    break
                except BlockingIOError:
                    if at_once:
                        break
                    give_way()
                    time.sleep(LOOK_AGAIN_S)
            yield
        finally:
            os.close(descriptor)

    @property
    def is_held(self) -> bool:
        """Whether a process is writing it."""
        try:
            with self.held():
                return False
        except TakeError:
            return True
        except OSError:
            return False

    @property
    def originals_path(self) -> Path:
        """Files as they were before they were mended, where what was made of them has less."""
        return self.path / "originals"

    @property
    def afterwards_path(self) -> Path:
        """What was changed of it after it was recorded."""
        return self.path / "afterwards.json"

    @property
    def rig_path(self) -> Path:
        """Its rig as it was changed afterwards."""
        return self.path / "rig.json"

    @property
    def info_path(self) -> Path:
        """What is told of the take as a whole."""
        return self.path / "take.json"

    def write_info(self, info: TakeInfo, patience_s: float | None = None) -> None:
        """Replace take.json as a whole, never half (see `replace_file`). Raises OSError."""
        replace_file(self.info_path, info.to_json().encode(), patience_s)

    def read_info(self) -> TakeInfo:
        """Read and check take.json. Raises TakeError."""
        target = self.info_path
        try:
            text = target.read_text()
        except FileNotFoundError as error:
            raise TakeError(
                f"{self.path} is not a take: it has no take.json. Name the folder of a take."
            ) from error
        except (OSError, UnicodeDecodeError) as error:
            raise TakeError(f"{target} cannot be read: {error}.") from error
        read = take_from_json(text, str(target))
        info = with_id(read)
        if info is not read:
            # A folder that can't be written to is read all the same.
            with contextlib.suppress(OSError):
                self.write_info(info)
        return info

    def check_track(self, track: TrackInfo) -> None:
        """Raise TakeError if a track is damaged or a file of it is missing or empty."""
        if track.damaged:
            raise TakeError(track.damaged)
        for path in (self.track_path(track), self.times_path(track)):
            if not path.is_file() or path.stat().st_size == 0:
                raise TakeError(
                    f"The track {track.name} of {self.path.name} lacks its file {path.name}. "
                    f"Put the file back, or compose with --without {track.name}."
                )


def free_bytes(path: Path) -> int:
    """Room left on the disk that holds a path."""
    found = path
    while not found.exists():
        found = found.parent
    state = os.statvfs(found)
    return state.f_bavail * state.f_frsize


def check_room(folder: TakeFolder, reserve_bytes: int) -> None:
    """Raise TakeError where the disk has no room for a take."""
    free = free_bytes(folder.path)
    if free < reserve_bytes:
        raise TakeError(
            f"The disk has only {free / 1e6:.0f} MB left and a take needs at least "
            f"{reserve_bytes / 1e6:.0f} MB; nothing was recorded. "
            "Make room or choose another folder."
        )
