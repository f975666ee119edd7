"""Recordings as sound, and what stands behind what was heard in them. The pages they are shown on belong to the stand and the desk."""

from __future__ import annotations

from django.http import Http404, HttpResponse, HttpResponseBase
from django.shortcuts import get_object_or_404, render

from didactor.core.errors import CoreError
from didactor.people.permissions import anybody
from didactor.people.requests import Request
from didactor.takes import evidence
from didactor.takes.deliveries import note_given
from didactor.takes.models import Take, Together
from didactor.takes.permissions import sight_of
from didactor.web.ranges import ranged_file


@anybody
def sound(request: Request, pk: int) -> HttpResponseBase:
    """The seekable copy of a take."""
    take = get_object_or_404(Take.objects.visible_to(request.user), pk=pk)
    if not take.playback:
        return HttpResponse(status=404)
    note_given([take], request.user)
    return ranged_file(request, take.playback, "audio/mp4")


@anybody
def together(request: Request, pk: int) -> HttpResponseBase:
    """All together, for the teacher and those who are in it."""
    made = get_object_or_404(Together.objects.visible_to(request.user).exclude(sound=""), pk=pk)
    note_given(made.takes.defer("peaks"), request.user)
    return ranged_file(request, made.sound, "audio/mpeg")


@anybody
def picture(request: Request, pk: int) -> HttpResponseBase:
    """The picture of a film, silent, that can be sought in."""
    take = get_object_or_404(Take.objects.visible_to(request.user), pk=pk)
    if not take.picture:
        return HttpResponse(status=404)
    note_given([take], request.user)
    return ranged_file(request, take.picture, f"video/{take.picture.name.rsplit('.', 1)[-1]}")


@anybody
def original(request: Request, pk: int) -> HttpResponseBase:
    """The recording as it came, byte for byte."""
    take = get_object_or_404(Take.objects.visible_to(request.user), pk=pk)
    if not take.original:
        raise Http404
    note_given([take], request.user)
    response = ranged_file(request, take.original, "application/octet-stream")
    response["Content-Disposition"] = f'attachment; filename="take-{take.pk}.{_extension(take.filename)}"'
    return response


def _extension(filename: str) -> str:
    plain = filename.rsplit(".", 1)[-1].lower()
    return plain if plain.isascii() and plain.isalnum() and len(plain) <= 5 else "bin"


def _take(request: Request, pk: int) -> Take:
    return get_object_or_404(Take.objects.visible_to(request.user).with_everything(), pk=pk)


def _place(request: Request, pk: int, index: int) -> evidence.NoteEvidence:
    take = _take(request, pk)
    found = evidence.note_evidence(take, index, sight_of(take, request.user))
    if found is None:
        raise Http404
    return found


@anybody
def why(request: Request, pk: int, index: int) -> HttpResponse:
    """What a judgement of one note rests on, to look at and to hear; a page, or a fragment beside the remark."""
    context = {"evidence": _place(request, pk, index)}
    return render(request, "takes/_why.html" if request.htmx else "takes/why.html", context)


@anybody
def why_played(request: Request, pk: int, index: int) -> HttpResponse:
    return HttpResponse(_place(request, pk, index).played_wav(), content_type="audio/wav")


@anybody
def why_written(request: Request, pk: int, index: int) -> HttpResponse:
    return HttpResponse(_place(request, pk, index).written_wav(), content_type="audio/wav")


@anybody
def download(request: Request, pk: int, kind: str) -> HttpResponse:
    """What was heard, for other programs: figures, MIDI, or the score with the remarks in it."""
    take = _take(request, pk)
    try:
        file = evidence.heard_as(take, kind, sight_of(take, request.user))
    except CoreError as error:
        return render(request, "takes/no_file.html", {"take": take, "trouble": error.message}, status=409)
    if file is None:
        raise Http404
    response = HttpResponse(file.body, content_type=file.content_type)
    response["Content-Disposition"] = f'attachment; filename="take-{take.pk}{file.suffix}"'
    return response
