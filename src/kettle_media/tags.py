"""What a file says of itself: its title, and what it shows."""

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from kettle_core.assembly.chapters import stamp

# Containers whose one field of free text is the comment.
COMMENTED = ("wav", "mp3")


@dataclass(frozen=True)
class Tags:
    """A title and a description; an empty one is left out."""

    title: str = ""
    description: str = ""

    def put_into(self, container: Any) -> None:
        """Write them into a container's metadata, before its head is written.

        References
        ----------
        libavformat's generic names, which each muxer turns into its own: `title`, `description`
        (MP4: desc, Matroska and FLAC: DESCRIPTION), `comment` (WAV: ICMT, MP3: a comment).
        """
        field = "comment" if container.format.name in COMMENTED else "description"
        for name, text in (("title", self.title), (field, self.description)):
            if text:
                container.metadata[name] = text


NO_TAGS = Tags()


def name_chapters(container: Any, chapters: Sequence[tuple[int, str]], length_ns: int) -> None:
    """Say in a container where its chapters begin, in ns, and what they are called.

    References
    ----------
    libavformat's chapters, which each muxer turns into its own: a text track (MP4, M4A),
    ChapterAtom (Matroska), CHAP frames of ID3v2.3 (MP3), CHAPTERxxx comments (FLAC). WAV has none.
    """
    if container.format.name == "flac":
        # Its muxer has no chapters; readers know them by these comments.
        for number, (at_ns, title) in enumerate(chapters):
            container.metadata[f"CHAPTER{number:03d}"] = stamp(at_ns)
            container.metadata[f"CHAPTER{number:03d}NAME"] = title
        return
    ends = [*(at_ns for at_ns, _ in chapters[1:]), length_ns]
    container.set_chapters(
        [
            {
                "id": number,
                "start": at_ns // 10**6,
                "end": end_ns // 10**6,
                "time_base": Fraction(1, 1000),
                "metadata": {"title": title},
            }
            for number, ((at_ns, title), end_ns) in enumerate(zip(chapters, ends, strict=True))
        ]
    )
