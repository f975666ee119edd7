"""Where each role finds a thing. These addresses belong to no step of the job, so every step may name them."""

from __future__ import annotations

from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect

from didactor.people.permissions import anybody
from didactor.people.requests import Request
from didactor.takes.models import Take


@anybody
def home(request: Request) -> HttpResponse:
    """Where each role begins: what waits, or what to play."""
    return redirect("review:waiting" if request.user.is_teacher else "stand:index")


@anybody
def take(request: Request, pk: int) -> HttpResponse:
    """A take on the teacher's desk, or on the student's stand."""
    found = get_object_or_404(Take.objects.visible_to(request.user).select_related("submission"), pk=pk)
    return redirect("review:detail", pk=found.submission.pk) if request.user.is_teacher else redirect("stand:take", pk=pk)
