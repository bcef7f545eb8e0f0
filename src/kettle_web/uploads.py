"""Uploads: none may be larger than the largest thing we take."""

from typing import Any

from django.core.files.uploadhandler import FileUploadHandler, StopUpload

from kettle_core.errors import KettleError

MAX_MATERIAL_BYTES = 400_000_000


class LimitedUploadHandler(FileUploadHandler):
    """Ends an upload that goes on for too long; what came is thrown away."""

    def handle_raw_input(
        self,
        input_data: Any,
        META: Any,  # noqa: N803 (Django calls it so)
        content_length: int | None,
        boundary: Any,
        encoding: Any = None,
    ) -> None:
        """Refuse by the length that was announced, before anything is read."""
        if (content_length or 0) > MAX_MATERIAL_BYTES + 1_000_000:
            raise UploadTooLargeError(
                f"A file may have {MAX_MATERIAL_BYTES / 1e6:.0f} MB at most, so nothing was added."
            )

    def receive_data_chunk(self, raw_data: bytes, start: int) -> bytes:
        """Count while it comes."""
        if start + len(raw_data) > MAX_MATERIAL_BYTES:
            raise StopUpload(connection_reset=True)
        return raw_data

    def file_complete(self, file_size: int) -> None:
        """The next handler keeps the file."""


class UploadTooLargeError(KettleError):
    """An upload that was refused for its size."""
