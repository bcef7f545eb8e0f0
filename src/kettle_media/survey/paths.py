"""Where the files of a take's survey lie: in a folder of the take."""

from pathlib import Path

from kettle_media.take.folder import TakeFolder


class SurveyPaths:
    """Names of files by track; a track's name is one that the take knows."""

    def __init__(self, folder: TakeFolder) -> None:
        self.folder = folder.path / "survey"

    @property
    def report(self) -> Path:
        """What was found, as JSON; it is written last."""
        return self.folder / "survey.json"

    def levels(self, track: str) -> Path:
        """Waveforms of a sound, one level after the other."""
        return self.folder / f"{track}.levels"

    def sheet(self, track: str, number: int) -> Path:
        """Small pictures of a track."""
        return self.folder / f"{track}-{number:02d}.jpg"
