"""What is found when an exported file is looked at."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Finding:
    """One thing that was looked at: what it is, what was found, whether that is as it should be."""

    name: str
    words: str
    good: bool
