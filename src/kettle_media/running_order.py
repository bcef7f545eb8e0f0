"""A tutorial's running order as a document."""

from typing import Any

from kettle_core.errors import RigError
from kettle_core.program.running_order import RunningOrder
from kettle_media.documents import Document

ORDER: Document[RunningOrder] = Document(RunningOrder, "The running order", RigError)


def order_from_dict(data: Any) -> RunningOrder:
    """Read a running order; of the first tutorials it was a list. Raises RigError."""
    return ORDER.read_plain({"steps": data} if isinstance(data, list) else data)


def order_to_dict(order: RunningOrder) -> Any:
    """Plain data that `order_from_dict` reads back."""
    return ORDER.plain(order)
