"""Where the files of a take's survey lie: in a folder of the take."""

from pathlib import Path

from kettle_media.take.folder import TakeFolder


class SurveyPaths:
    """Names of files by track; a track's name is one that the take knows.

    `early` are those that were made while it was recorded.
    """

    def __init__(self, folder: TakeFolder, early: bool = False) -> None:
        self.folder = folder.path / "survey" / ("early" if early else "")

    @property
    def report(self) -> Path:
        """What was found, as JSON; it is written last."""
        return self.folder / "survey.json"

    @property
    def poster(self) -> Path:
        """A picture of the take, for before its program is composed."""
        return self.folder / "poster.jpg"

    def levels(self, track: str) -> Path:
        """Waveforms of a sound, one level after the other."""
        return self.folder / f"{track}.levels"

    def sheet(self, track: str, number: int) -> Path:
        """Small pictures of a track."""
        return self.folder / f"{track}-{number:02d}.jpg"
