"""A take's files over HTTP."""

from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlencode

from django.http import Http404, HttpRequest, HttpResponse
from django.urls import reverse

from kettle_core.errors import TakeError
from kettle_core.rig.rig import Rig
from kettle_media.survey.paths import SurveyPaths
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.rig_now import rig_now
from kettle_web.frame.file_answers import file_answer
from kettle_web.frame.selectors import KIND_WORDS
from kettle_web.models import Take
from kettle_web.takes.names import PROGRAM, download_name

DOWNLOADS = ("track", "times", "copy", "download", "sound-copy")


@dataclass(frozen=True)
class TakeFiles:
    """Addresses of a track's files; `copy` is empty until the copy is there.

    Until then the track itself is played.

    A stem, which is made when the program is composed, has neither `track` nor `times`.
    """

    name: str
    title: str
    kind: str
    is_picture: bool
    play: str
    play_name: str
    copy: str
    track: str
    times: str
    size_bytes: int


def take_files(take: Take) -> list[TakeFiles]:
    """Every track of a take with its addresses; empty if take.json can't be read."""
    folder = TakeFolder(take.path)
    try:
        info = folder.read_info()
    except TakeError:
        return []
    rig, found = rig_now(folder, info)[0], list[TakeFiles]()
    for track in info.tracks:
        path, playable = folder.track_path(track), folder.playable_path(track)

        def address(kind: str, name: str = track.name) -> str:
            return reverse("take-file", args=[take.pk, kind, name])

        found.append(
            TakeFiles(
                track.name,
                track.title,
                _track_words(rig, track),
                track.is_picture,
                address("play") if path.exists() else "",
                playable.suffix[1:].upper(),
                address("copy") if playable.exists() else "",
                address("track") if path.exists() else "",
                address("times"),
                path.stat().st_size if path.exists() else 0,
            )
        )
    return found + _stems(take, folder, rig)


def played_address(take: Take, kind: str, name: str = PROGRAM) -> str:
    """Where a file is played from: another address when it is another file, "" without one.

    What a page plays must not become another file below it.
    """
    stamp = stamp_of(_path_of(TakeFolder(take.path), kind, name))
    address = reverse("take-file", args=[take.pk, kind, name])
    return f"{address}?{urlencode({'v': stamp})}" if stamp else ""


def stamp_of(path: Path) -> str:
    """Another one when it is another file, "" without one."""
    try:
        known = path.stat()
    except OSError:
        return ""
    return f"{known.st_size:x}-{known.st_mtime_ns:x}"


def _track_words(rig: Rig, track: TrackInfo) -> str:
    """What a track is, and by how much it was written smaller than its input."""
    words = f"{KIND_WORDS[track.kind]}, {track.mode.in_words()}"
    item = next((i for i in rig.inputs if i.id == track.name), None)
    if item and track.is_picture and item.size[0] > track.mode.width:
        words += f", {100 * track.mode.width / item.size[0]:.0f} % of its size"
    return words


def _stems(take: Take, folder: TakeFolder, rig: Rig) -> list[TakeFiles]:
    found = []
    for track in rig.stems:
        path = folder.stem_path(track)
        if not path.is_file():
            continue
        play, copy = (
            reverse("take-file", args=[take.pk, kind, track.id]) for kind in ("sound", "sound-copy")
        )
        words = f"stem, cleaned, {'mono' if track.channels == 1 else 'stereo'}"
        size = path.stat().st_size
        found.append(
            TakeFiles(track.id, track.name, words, False, play, "FLAC", copy, "", "", size)
        )
    return found


def _path_of(folder: TakeFolder, kind: str, name: str) -> Path:
    """The file of a kind; a track is looked up by its name, never joined from it."""
    if kind in ("program", "download"):
        return folder.program_path
    if kind == "poster":
        made = folder.path / "poster.jpg"
        return made if made.is_file() else SurveyPaths(folder, early=True).poster
    if kind == "sheet":
        name, _, sheet = name.rpartition("-")
        number = int(sheet) if sheet.isdecimal() and len(sheet) < 4 else 0
    try:
        info = folder.read_info()
        if kind in ("sound", "sound-copy"):
            tracks = rig_now(folder, info)[0].stems
            return folder.stem_path(next(t for t in tracks if t.id == name))
        track = next(t for t in info.tracks if t.name == name)
    except (TakeError, StopIteration) as error:
        raise Http404(f"The take has no track {name}.") from error
    if kind == "play" and not folder.playable_path(track).is_file():
        return folder.track_path(track)
    if kind in ("levels", "sheet"):
        # Before the survey is whole those that were kept while it was recorded.
        paths = SurveyPaths(folder, early=not SurveyPaths(folder).report.is_file())
        return paths.levels(track.name) if kind == "levels" else paths.sheet(track.name, number)
    places = {
        "play": folder.playable_path,
        "copy": folder.playable_path,
        "track": folder.track_path,
        "times": folder.times_path,
    }
    if kind not in places:
        raise Http404(f"A take has no {kind}.")
    return places[kind](track)


def _title_of(folder: TakeFolder, kind: str, name: str) -> str:
    """What a file of a take shows or sounds like, as its name says it."""
    if kind in ("program", "download"):
        return PROGRAM
    info = folder.read_info()
    if kind in ("sound", "sound-copy"):
        return next(t.name for t in rig_now(folder, info)[0].stems if t.id == name)
    return info.track(name).title


def serve_file(
    request: HttpRequest, folder: TakeFolder, take: Take, kind: str, name: str, download: bool
) -> HttpResponse:
    """Answer with a file of a take, or the range asked for."""
    path = _path_of(folder, kind, name)
    save_as = ""
    if download and path.is_file():
        save_as = download_name(take, _title_of(folder, kind, name), "".join(path.suffixes))
    return file_answer(request, path, save_as)
