"""A recording of the demo that waits on a device: it can lie only in a browser, so a page puts it there, as a lost connection would."""

from __future__ import annotations

from django.conf import settings
from django.core.files.base import ContentFile
from django.core.files.storage import FileSystemStorage
from django.http import Http404, HttpResponse, HttpResponseBase
from django.shortcuts import render

from didactor.assignments.models import Task
from didactor.demo.scenario import DemoTake
from didactor.demo.takes import play
from didactor.people.permissions import student_only
from didactor.people.requests import Request
from didactor.web.ranges import ranged_file

FILENAME = "demo-left-{}.wav"


def _shelf() -> FileSystemStorage:
    return FileSystemStorage(location=settings.STATE)


def leave(task: Task, demo: DemoTake) -> None:
    """Keep the sound that the page will put on its device."""
    name = FILENAME.format(task.pk)
    _shelf().delete(name)
    _shelf().save(name, ContentFile(play(task, demo)))


def _left(request: Request) -> Task:
    """The student's task whose recording is to lie on a device. Raises ``Http404``: there is none outside the demo."""
    for task in Task.objects.visible_to(request.user).select_related("assignment__passage__revision__piece"):
        if _shelf().exists(FILENAME.format(task.pk)):
            return task
    raise Http404


@student_only
def page(request: Request) -> HttpResponse:
    """Puts the recording on this device."""
    return render(request, "demo/left.html", {"task": _left(request)})


@student_only
def sound(request: Request) -> HttpResponseBase:
    """What was played, as it came from the microphone."""
    return ranged_file(request, _shelf().open(FILENAME.format(_left(request).pk)), "audio/wav")
