"""Heard live: begun from a task, marked on the desk like a take, with a recording of it or without."""

from __future__ import annotations

from typing import IO, cast

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_POST

from didactor.assignments.models import Task
from didactor.core.words import worded
from didactor.people.permissions import teacher_only
from didactor.people.requests import Request
from didactor.takes import lessons
from didactor.takes.models import Submission
from didactor.takes.services import TakeRefused


@teacher_only
@require_POST
def begin(request: Request, pk: int) -> HttpResponse:
    """The student plays, the teacher listens."""
    task = get_object_or_404(Task.objects.visible_to(request.user), pk=pk)
    try:
        submission = lessons.hear_live(task=task, teacher=request.user)
    except TakeRefused as error:
        messages.error(request, str(error))
        return redirect("assignment", pk=task.assignment_id)
    return redirect("review:detail", pk=submission.pk)


def _submission(request: Request, pk: int) -> Submission:
    return get_object_or_404(Submission.objects.visible_to(request.user).filter(take__heard_live=True), pk=pk)


@teacher_only
@require_POST
def recording(request: Request, pk: int) -> HttpResponse:
    """What was recorded of it meanwhile."""
    submission, upload = _submission(request, pk), request.FILES.get("said")
    try:
        if upload is None or not upload.size:
            raise TakeRefused(worded("There is no recording in it. Record, press “That is it”, then keep it."))
        lessons.keep_recording(take=submission.take, source=cast("IO[bytes]", upload.file), filename=upload.name or "lesson")
        messages.success(request, worded("The recording is kept, and the ear listens to it now."))
    except TakeRefused as error:
        messages.error(request, str(error))
    return redirect("review:detail", pk=pk)


@teacher_only
@require_POST
def drop(request: Request, pk: int) -> HttpResponse:
    """It was not to be."""
    submission = _submission(request, pk)
    try:
        lessons.drop_live(submission.take)
        messages.success(request, worded("Dropped: the passage is as it was before."))
    except TakeRefused as error:
        messages.error(request, str(error))
        return redirect("review:detail", pk=pk)
    return redirect("review:waiting")
