from __future__ import annotations

import json

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST
from django_htmx.http import HttpResponseStopPolling

from didactor.assignments.models import CATEGORY_TITLES, Task
from didactor.core.errors import CoreError
from didactor.people.permissions import anybody, family, student_only
from didactor.takes import evidence, reading, services
from didactor.takes.models import Take
from didactor.takes.ranges import ranged_file


@student_only
@require_POST
def upload_file(request: HttpRequest, task_pk: int) -> HttpResponse:
    """A recording sent by a plain form, for browsers without scripts."""
    task = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=task_pk)
    file = request.FILES.get("recording")
    if file is None:
        messages.error(request, "Choose a recording first.")
        return redirect("assignments:task", pk=task.pk)
    try:
        take = services.receive_take(
            student=request.user, task=task, source=file.file, filename=file.name, step=request.POST.get("step", "")
        )
    except services.TakeRefused as error:
        messages.error(request, str(error))
        return redirect("assignments:task", pk=task.pk)
    return redirect("takes:detail", pk=take.pk)


@family
def detail(request: HttpRequest, pk: int) -> HttpResponse:
    """Listen back, mark, see what was heard, submit."""
    take = get_object_or_404(Take.objects.visible_to(request.user).with_everything(), pk=pk)
    return render(request, "takes/detail.html", reading.take_page(take, request.user))


@family
def status_fragment(request: HttpRequest, pk: int) -> HttpResponse:
    """Where the hearing stands; polled until it is settled, then the page's content is put in its place."""
    take = get_object_or_404(Take.objects.visible_to(request.user), pk=pk)
    response = render(request, "takes/_status.html", {"take": take})
    if take.is_settled:
        response = HttpResponseStopPolling(response.content)
        page = {"path": reverse("takes:detail", args=[pk]), "target": "#main", "select": "#main", "swap": "outerHTML"}
        response["HX-Location"] = json.dumps(page)
    return response


@anybody
def sound(request: HttpRequest, pk: int) -> HttpResponseBase:
    """The seekable copy of a take."""
    take = get_object_or_404(Take.objects.visible_to(request.user), pk=pk)
    if not take.playback:
        return HttpResponse(status=404)
    return ranged_file(request, take.playback, "audio/mp4")


@anybody
def original(request: HttpRequest, pk: int) -> HttpResponseBase:
    """The recording as it came, byte for byte."""
    take = get_object_or_404(Take.objects.visible_to(request.user), pk=pk)
    response = ranged_file(request, take.original, "application/octet-stream")
    response["Content-Disposition"] = f'attachment; filename="take-{take.pk}.{_extension(take.filename)}"'
    return response


def _judged(request: HttpRequest, pk: int) -> Take:
    """A take of which this person may see what was heard."""
    take = get_object_or_404(Take.objects.visible_to(request.user).with_everything(), pk=pk)
    if reading.heard_by(take, request.user) is None:
        raise Http404
    return take


def _place(request: HttpRequest, pk: int, index: int) -> evidence.NoteEvidence:
    found = evidence.note_evidence(_judged(request, pk), index)
    if found is None:
        raise Http404
    return found


@anybody
def why(request: HttpRequest, pk: int, index: int) -> HttpResponse:
    """What a judgement of one note rests on, to look at and to hear; a page, or a fragment beside the remark."""
    context = {"evidence": _place(request, pk, index)}
    return render(request, "takes/_why.html" if request.htmx else "takes/why.html", context)


@anybody
def why_played(request: HttpRequest, pk: int, index: int) -> HttpResponse:
    return HttpResponse(_place(request, pk, index).played_wav(), content_type="audio/wav")


@anybody
def why_written(request: HttpRequest, pk: int, index: int) -> HttpResponse:
    return HttpResponse(_place(request, pk, index).written_wav(), content_type="audio/wav")


@anybody
def download(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """What was heard, for other programs: figures, MIDI, or the score with the remarks in it."""
    take = _judged(request, pk)
    try:
        file = evidence.heard_as(take, kind)
    except CoreError as error:
        messages.error(request, error.message)
        return redirect("takes:detail", pk=pk) if not request.user.is_teacher else redirect("review:detail", pk=take.submission.pk)
    if file is None:
        raise Http404
    response = HttpResponse(file.body, content_type=file.content_type)
    response["Content-Disposition"] = f'attachment; filename="take-{take.pk}{file.suffix}"'
    return response


def _extension(filename: str) -> str:
    plain = filename.rsplit(".", 1)[-1].lower()
    return plain if plain.isalnum() and len(plain) <= 5 else "bin"


@student_only
@require_POST
def mark(request: HttpRequest, pk: int) -> HttpResponse:
    """Keep the student's own checklist, pins and the one thing to work on."""
    take = get_object_or_404(Take.objects.owned_by(request.user), pk=pk)
    try:
        services.review_own_take(take=take, marks=_own_marks(request), work_on=request.POST.get("work_on", ""))
    except services.TakeRefused as error:
        messages.error(request, str(error))
    return redirect("takes:detail", pk=pk)


def _own_marks(request: HttpRequest) -> list[services.OwnMark]:
    marks = []
    for slug in CATEGORY_TITLES:
        verdict = request.POST.get(f"verdict-{slug}")
        if verdict in ("good", "mend"):
            marks.append(services.OwnMark(category=slug, verdict=verdict))
    pins = zip(request.POST.getlist("pin-bar"), request.POST.getlist("pin-category"), request.POST.getlist("pin-text"), strict=False)
    for bar, category, text in pins:
        if bar.strip() and category in CATEGORY_TITLES:
            marks.append(services.OwnMark(category=category, verdict="mend", bar=bar.strip(), text=text.strip()))
    return marks


@student_only
@require_POST
def submit(request: HttpRequest, pk: int) -> HttpResponse:
    take = get_object_or_404(Take.objects.owned_by(request.user).select_related("task__assignment"), pk=pk)
    try:
        services.submit_take(take=take)
    except services.TakeRefused as error:
        messages.error(request, str(error))
        return redirect("takes:detail", pk=pk)
    messages.success(request, f"{take} is with your teacher.")
    return redirect("assignments:task", pk=take.task_id)


@student_only
def delete(request: HttpRequest, pk: int) -> HttpResponse:
    """Ask once, then delete for good."""
    take = get_object_or_404(Take.objects.owned_by(request.user).with_everything(), pk=pk)
    if request.method != "POST":
        return render(request, "takes/delete.html", {"take": take})
    try:
        services.delete_take(student=request.user, take=take)
    except services.TakeRefused as error:
        messages.error(request, str(error))
        return redirect("takes:detail", pk=pk)
    messages.success(request, "The take is deleted for good.")
    return redirect("assignments:task", pk=take.task_id)
