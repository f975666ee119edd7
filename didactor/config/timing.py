from __future__ import annotations

import time
from collections.abc import Callable

from django.http import HttpRequest, HttpResponse


class ServerTimingMiddleware:
    """Tells in every answer how long the server took, so that slowness is seen in the browser and by ``bench/site``."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        started = time.perf_counter()
        response = self.get_response(request)
        response["Server-Timing"] = f"app;dur={1000 * (time.perf_counter() - started):.1f}"
        return response
