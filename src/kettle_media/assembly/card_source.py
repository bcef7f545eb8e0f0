"""A card as a source of a program: the same picture at any time, no sound."""

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from kettle_core.picture.picture import Picture
from kettle_core.rig.rig import Card
from kettle_core.sound.levels import Sound
from kettle_core.sound.tone import Tone
from kettle_media.rig.stills import draw_card, rgba_to_picture

# The frame height for which a card's size is meant.
USUAL_LINES = 1080


class CardSource:
    """A card that fills a frame of a size in px."""

    def __init__(self, card: Card, size: tuple[int, int]) -> None:
        self._card, self._size = card, size
        fitting = replace(card, size_px=max(8, round(card.size_px * size[1] / USUAL_LINES)))
        self._picture = rgba_to_picture(draw_card(fitting, *size))

    def pictures(self, inputs: Iterable[str], record_ns: float) -> dict[str, Picture]:
        """The card, by whatever name it is asked for."""
        return dict.fromkeys(inputs, self._picture)

    def sound(self, input_id: str, tone: Tone, first: int, count: int) -> Sound:
        """Nothing is heard of a card."""
        return np.zeros((1, count), np.float32)

    def identity(self) -> str:
        """A text that is another one when the card could be."""
        return repr((self._card, self._size))

    def close(self) -> None:
        """Nothing is open."""
