"""What is to be exported as a JSON document."""

from typing import Any

from kettle_core.assembly.export import Export
from kettle_core.errors import CutError
from kettle_media.documents import Document

EXPORT: Document[Export] = Document(Export, "The export", CutError)


def export_from_dict(data: Any) -> Export:
    """What is to be exported, of plain data. Raises CutError."""
    return EXPORT.read_plain(data)


def export_to_dict(order: Export) -> Any:
    """Plain data that `export_from_dict` reads back."""
    return EXPORT.plain(order)
