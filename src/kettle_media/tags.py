"""What a file says of itself: its title, and what it shows."""

from dataclasses import dataclass
from typing import Any

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
