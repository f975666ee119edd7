from __future__ import annotations

import re
from collections.abc import Iterator
from typing import IO, Any

from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase, StreamingHttpResponse

CHUNK = 256 * 1024


def ranged_file(request: HttpRequest, file: Any, content_type: str) -> HttpResponseBase:
    """A stored file, whole or the one range that was asked for (206, suffixes too), or 416 where it lies outside.

    Players seek with ranges; Django's own file response ignores them.
    """
    size = file.size
    match = re.fullmatch(r"bytes=([0-9]{0,18})-([0-9]{0,18})", request.headers.get("Range", "").strip())
    if match is None or match.groups() == ("", ""):
        response: HttpResponseBase = FileResponse(file.open("rb"), content_type=content_type)
    else:
        first, last = match.groups()
        start = int(first) if first else max(0, size - int(last))
        end = min(int(last), size - 1) if first and last else size - 1
        if start > end:
            refused = HttpResponse(status=416)
            refused["Content-Range"] = f"bytes */{size}"
            return refused
        response = StreamingHttpResponse(_read(file.open("rb"), start, end - start + 1), status=206, content_type=content_type)
        response["Content-Range"] = f"bytes {start}-{end}/{size}"
        response["Content-Length"] = str(end - start + 1)
    response["Accept-Ranges"] = "bytes"
    response["Cache-Control"] = "private, max-age=3600"
    return response


def _read(source: IO[bytes], start: int, length: int) -> Iterator[bytes]:
    with source:
        source.seek(start)
        while length > 0 and (chunk := source.read(min(CHUNK, length))):
            length -= len(chunk)
            yield chunk
