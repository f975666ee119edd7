from __future__ import annotations

import re
from typing import Any

from django.http import HttpRequest, HttpResponse, HttpResponseBase, StreamingHttpResponse

from didactor.web.store import chunks, for_the_proxy

CACHED = "private, max-age=3600"


def ranged_file(request: HttpRequest, file: Any, content_type: str) -> HttpResponseBase:
    """A stored file, whole or the one range that was asked for (206, suffixes too), or 416 where it lies outside.

    Players seek with ranges; Django's own file response ignores them. Where a proxy serves files itself, it is told which.
    """
    served = for_the_proxy(file, content_type)
    if served:
        handed_over = HttpResponse(content_type=content_type)
        handed_over["X-Accel-Redirect"] = served
        handed_over["Cache-Control"] = CACHED
        return handed_over
    size = file.size
    match = re.fullmatch(r"bytes=([0-9]{0,18})-([0-9]{0,18})", request.headers.get("Range", "").strip())
    if match is None or match.groups() == ("", ""):
        response = StreamingHttpResponse(chunks(file, 0, size), content_type=content_type)
        response["Content-Length"] = str(size)
    else:
        first, last = match.groups()
        start = int(first) if first else max(0, size - int(last))
        end = min(int(last), size - 1) if first and last else size - 1
        if start > end:
            refused = HttpResponse(status=416)
            refused["Content-Range"] = f"bytes */{size}"
            return refused
        response = StreamingHttpResponse(chunks(file, start, end - start + 1), status=206, content_type=content_type)
        response["Content-Range"] = f"bytes {start}-{end}/{size}"
        response["Content-Length"] = str(end - start + 1)
    response["Accept-Ranges"] = "bytes"
    response["Cache-Control"] = CACHED
    return response
