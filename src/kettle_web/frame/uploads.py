"""Uploads: none may be larger than the largest thing we take."""

from typing import Any

from django.core.files.uploadhandler import FileUploadHandler, StopUpload

MAX_MATERIAL_BYTES = 400_000_000

# What a form has round its file.
MAX_REQUEST_BYTES = MAX_MATERIAL_BYTES + 1_000_000

TOO_LARGE = f"A file may have {MAX_MATERIAL_BYTES / 1e6:.0f} MB at most, so nothing was added."


class LimitedUploadHandler(FileUploadHandler):
    """Ends an upload that goes on for too long without having said so; nothing of it is kept."""

    def receive_data_chunk(self, raw_data: bytes, start: int) -> bytes:
        """Count while it comes."""
        if start + len(raw_data) > MAX_MATERIAL_BYTES:
            raise StopUpload(connection_reset=True)
        return raw_data

    def file_complete(self, file_size: int) -> Any:
        """The next handler keeps the file."""
