"""The service worker, which keeps opened tasks for when there is no connection, and the page it shows for what it has not kept."""

from __future__ import annotations

from pathlib import Path

from django.contrib.staticfiles import finders
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render


def worker(request: HttpRequest) -> HttpResponse:
    """The script, from the root: a worker answers only for addresses below its own. Asked for anew each time, so that a new one is seen."""
    path = finders.find("js/sw.js")
    response = HttpResponse(Path(str(path)).read_bytes(), content_type="text/javascript; charset=utf-8")
    response["Cache-Control"] = "no-cache"
    return response


def offline(request: HttpRequest) -> HttpResponse:
    """What is shown without a connection for a page that was never opened with one."""
    return render(request, "offline.html")
