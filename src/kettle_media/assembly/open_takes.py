"""Takes that stay open from one show to the next: what is made of them changes oftener than they.

A take of three hours has a million times and packets, which take two seconds to be read.
"""

from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path

from kettle_media.assembly.joins import Voice, voice_of
from kettle_media.program.sources import TakeSources
from kettle_media.survey.paths import SurveyPaths
from kettle_media.take.afterwards import read_afterwards
from kettle_media.take.align import GiveWay, align_take, go_on
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo

# Beside a track lies what is made of it as it is opened.
INDEX = ".index"


@dataclass(frozen=True)
class OpenTake:
    """A take with what can be seen and heard of it, and how loud its voices are."""

    info: TakeInfo
    sources: TakeSources
    voice: Voice | None


def open_take(folder: TakeFolder, give_way: GiveWay = go_on, at_once: bool = False) -> OpenTake:
    """Open a take, see `TakeSources`. Raises TakeError if it can't be read."""
    info = folder.read_info()
    sync = align_take(folder, info, info.damaged, False, give_way, at_once)
    return OpenTake(
        info, TakeSources(folder, info, sync, give_way, at_once), voice_of(folder, info)
    )


class OpenTakes:
    """Gives takes as they are by now; those whose files are as they were stay open.

    For one thread, and one show at a time.
    """

    def __init__(self) -> None:
        self._kept: dict[Path, tuple[object, OpenTake]] = {}
        # How often one was opened.
        self.opened = 0

    def take(self, folder: TakeFolder) -> OpenTake:
        """A take, opened at once; it is not closed by who asks. Raises TakeError."""
        state = _state(folder)
        kept = self._kept.get(folder.path)
        if kept and kept[0] == state:
            return kept[1]
        self._let_go(folder.path)
        self.opened += 1
        found = open_take(folder, at_once=True)
        self._kept[folder.path] = state, found
        return found

    def keep(self, paths: Collection[Path]) -> None:
        """Close all takes but those in some folders."""
        for path in [p for p in self._kept if p not in paths]:
            self._let_go(path)

    def _let_go(self, path: Path) -> None:
        _, take = self._kept.pop(path, (None, None))
        if take:
            take.sources.close()


def _state(folder: TakeFolder) -> object:
    """Something that is another one when what is open of a take could be; cues are none of it."""
    files = (
        folder.info_path, folder.rig_path, folder.path / "sync.json",
        folder.stills_path, folder.cleaned_path, SurveyPaths(folder).report,
        *sorted(p for p in (folder.path / "tracks").glob("*") if p.suffix != INDEX),
    )  # fmt: skip
    return [(path, _stamp(path)) for path in files], read_afterwards(folder)[0].nudges


def _stamp(path: Path) -> tuple[int, ...] | None:
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_ino, found.st_mtime_ns, found.st_size
