from __future__ import annotations

import os
import secrets

from django.conf import settings
from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from prometheus_client import CONTENT_TYPE_LATEST, REGISTRY, CollectorRegistry, generate_latest
from prometheus_client.multiprocess import MultiProcessCollector

from didactor.core.words import worded
from didactor.operation.state import KEPT
from didactor.operation.state import ready as how_it_stands
from didactor.operation.troubles import troubles_of, try_again
from didactor.people.permissions import teacher_only
from didactor.people.requests import Request
from didactor.web.numbers import read_id


@teacher_only
def troubles(request: Request) -> HttpResponse:
    """What could not be done, and why; each can be tried once more."""
    if request.method == "POST":
        number = read_id(request.POST.get("number", ""))
        if number is not None and try_again(person=request.user, kind=request.POST.get("kind", ""), number=number):
            messages.success(request, worded("It is tried again."))
        else:
            messages.info(request, worded("This is no longer to be done."))
        return redirect("troubles")
    return render(request, "operation/troubles.html", {"troubles": troubles_of(request.user.studio)})


def health(request: HttpRequest) -> HttpResponse:
    """This process answers."""
    return HttpResponse("ok\n", content_type="text/plain")


def ready(request: HttpRequest) -> JsonResponse:
    """Whether requests may be sent to this process."""
    found = how_it_stands()
    return JsonResponse(found, status=200 if all(found.values()) else 503)


def _counted() -> CollectorRegistry:
    """What this process has counted; where several serve, what all of them have."""
    if "PROMETHEUS_MULTIPROC_DIR" not in os.environ:
        return REGISTRY
    together = CollectorRegistry()
    MultiProcessCollector(together)
    return together


def metrics(request: HttpRequest) -> HttpResponse:
    """Figures for Prometheus, for who has the token; without one set nobody."""
    told = request.headers.get("Authorization", "").removeprefix("Bearer ").encode()
    token = settings.METRICS_TOKEN.encode()
    if not token or not secrets.compare_digest(told, token):
        raise Http404
    return HttpResponse(generate_latest(_counted()) + generate_latest(KEPT), content_type=CONTENT_TYPE_LATEST)
