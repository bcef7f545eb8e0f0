"""What a driver's process tells of its devices."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

LIVE, OPENING, UNPLUGGED, FAULT = "live", "opening", "unplugged", "fault"


@dataclass(frozen=True)
class DeviceFacts:
    """What is known of a device when its track begins; see `TrackInfo`."""

    reported_latency_ms: float | None = None
    truth: Mapping[str, Any] | None = None


@dataclass(frozen=True)
class SourceReport:
    """How an input's device is; see `Source`. `ring` is where its captures lie."""

    state: str
    sentence: str
    lost: int
    jumped: int
    ring: str
    facts: DeviceFacts | None
