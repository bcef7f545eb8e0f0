"""Files over HTTP, with range requests so that players can seek."""

import asyncio
import mimetypes
import re
from collections.abc import AsyncIterator
from functools import partial
from pathlib import Path

from django.http import Http404, HttpRequest, HttpResponse, StreamingHttpResponse
from django.utils.http import content_disposition_header

from kettle_web.frame.threads import FILES

CHUNK_BYTES = 1 << 18
RANGE = re.compile(r"bytes=(\d*)-(\d*)")
mimetypes.add_type("video/x-matroska", ".mkv")
mimetypes.add_type("audio/flac", ".flac")


def file_answer(request: HttpRequest, path: Path, save_as: str = "") -> HttpResponse:
    """The whole file or the range asked for (RFC 9110, sections 13 and 14).

    `save_as` is the name by which browsers keep it, "" where they show it. Raises Http404.
    """
    if not path.is_file():
        raise Http404(f"{path.name} is not there.")
    known = path.stat()
    size, etag = known.st_size, f'"{known.st_size:x}-{known.st_mtime_ns:x}"'
    if etag in request.headers.get("If-None-Match", ""):
        return HttpResponse(status=304, headers={"ETag": etag})
    first, last = 0, size - 1
    status = 200
    # A part of what is another file by now would be joined to parts of the one before.
    is_same = request.headers.get("If-Range", etag) == etag
    match = RANGE.fullmatch(request.headers.get("Range", "")) if is_same else None
    if match and any(match.groups()):
        status = 206
        begin, end = match.groups()
        first = int(begin) if begin else max(0, size - int(end))
        last = min(int(end), size - 1) if begin and end else size - 1
        if first > last:
            return HttpResponse(status=416, headers={"Content-Range": f"bytes */{size}"})
    response = StreamingHttpResponse(
        _chunks(path, first, last - first + 1),
        status=status,
        content_type=mimetypes.guess_type(path.name)[0] or "application/octet-stream",
    )
    response["Accept-Ranges"], response["ETag"] = "bytes", etag
    response["Content-Length"] = str(last - first + 1)
    if status == 206:
        response["Content-Range"] = f"bytes {first}-{last}/{size}"
    if save_as:
        response["Content-Disposition"] = content_disposition_header(True, save_as) or "attachment"
    return response  # type: ignore[return-value]


async def _chunks(path: Path, first: int, count: int) -> AsyncIterator[bytes]:
    run = partial(asyncio.get_running_loop().run_in_executor, FILES)
    file = await run(path.open, "rb")
    try:
        await run(file.seek, first)
        while count > 0:
            data = await run(file.read, min(CHUNK_BYTES, count))
            if not data:
                return
            count -= len(data)
            yield data
    finally:
        file.close()
