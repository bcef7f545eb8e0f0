"""What a player says: pictures and sound with the program times they belong to."""

import struct
from dataclasses import dataclass
from typing import ClassVar

# Kind, the turn it belongs to, program time in s; all little-endian.
_HEAD = struct.Struct("<BId")
LENGTH = struct.Struct("<I")


@dataclass(frozen=True)
class Message:
    """A picture (JPEG), sound (int16, 2 channels interleaved, 48 kHz), the end, trouble in words.

    `turn` is the number of the order it answers: what belongs to an older one is of no more use.
    """

    PICTURE: ClassVar[int] = 0
    SOUND: ClassVar[int] = 1
    END: ClassVar[int] = 2
    TROUBLE: ClassVar[int] = 3
    READY: ClassVar[int] = 4

    kind: int
    turn: int
    at_s: float
    body: bytes = b""

    def packed(self) -> bytes:
        """As bytes, its head of 13 first."""
        return _HEAD.pack(self.kind, self.turn, self.at_s) + self.body

    @classmethod
    def unpacked(cls, data: bytes) -> "Message":
        """The message that `packed` gave."""
        kind, turn, at_s = _HEAD.unpack_from(data)
        return cls(kind, turn, at_s, data[_HEAD.size :])
