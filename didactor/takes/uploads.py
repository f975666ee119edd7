"""Resumable uploads: the core and creation parts of the tus 1.0 protocol, nothing more.

A recording comes in pieces; when the connection breaks, the browser asks how far it came and sends the rest. Nothing of it is
visible anywhere before the last byte has arrived.
"""

from __future__ import annotations

import base64
import binascii
import itertools
import json
import uuid
from typing import IO, cast

from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from django.urls import reverse
from django.views.decorators.http import require_http_methods

from didactor.assignments.models import Task
from didactor.core.words import _, worded
from didactor.library.models import ModelSound
from didactor.people.permissions import student_only
from didactor.people.requests import Request
from didactor.takes import services
from didactor.takes.models import Upload
from didactor.web.numbers import read_id, read_number

VERSION = "1.0.0"
MOST_CLICKS, LONGEST_S = 4000, 7200.0
#: A device that is later than this was measured wrongly.
MOST_LATE_S = 0.6
DISK_FULL = _("There is no room left on the server. Your recording is still here: save the file, and tell your teacher.")


def _answer(status: int, text: str = "", **headers: str) -> HttpResponse:
    response = HttpResponse(text, status=status, content_type="text/plain; charset=utf-8")
    response["Tus-Resumable"] = VERSION
    response["Cache-Control"] = "no-store"
    for name, value in headers.items():
        response[name.replace("_", "-")] = value
    return response


def _metadata(request: Request) -> dict[str, str]:
    """``Upload-Metadata``: comma-separated pairs of a key and a base64 value."""
    values = {}
    for pair in request.headers.get("Upload-Metadata", "").split(","):
        key, _, coded = pair.strip().partition(" ")
        try:
            values[key] = base64.b64decode(coded, validate=True).decode("utf-8").replace("\x00", "")
        except (binascii.Error, UnicodeDecodeError):
            continue
    return values


def read_clicks(text: str) -> tuple[float, ...]:
    """Times of the recorder's clicks, seconds; nothing where they make no sense."""
    times = [read_number(part, 0.0, LONGEST_S) for part in text.split()[:MOST_CLICKS]]
    known = [t for t in times if t is not None]
    return tuple(known) if len(known) == len(times) and all(a < b for a, b in itertools.pairwise(known)) else ()


def _backing(task: Task, text: str) -> dict[str, float] | None:
    """The accompaniment that the recorder played, “12 0.65”: which sound, and when it began; None for one that is not this task's."""
    pk, _, at = text.partition(" ")
    begins_s = read_number(at, 0.0, LONGEST_S)
    number = read_id(pk)
    own = number is not None and ModelSound.objects.filter(pk=number, passage=task.passage.root, of_part__gt=0).exists()
    return {"sound": number, "at_s": begins_s} if own and number is not None and begins_s is not None else None


def own_tempo(task: Task, text: str | None) -> float | None:
    """The student's choice of tempo; None for what is no choice here, or no tempo that the passage is practised at."""
    chosen = read_number(text, min(task.tempi), max(task.tempi))
    return chosen if task.tempo_is_free or chosen == task.fast_tempo else None


@student_only
@require_http_methods(["POST"])
def create(request: Request) -> HttpResponse:
    """Announce a recording: its length, name and task."""
    data = _metadata(request)
    length, task_id = read_id(request.headers.get("Upload-Length")), read_id(data.get("task"))
    if length is None or task_id is None:
        return _answer(400, worded("The upload must tell its length and its task."))
    task = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=task_id)
    try:
        upload = services.begin_upload(
            student=request.user,
            task=task,
            filename=data.get("filename", "take"),
            length=length,
            origin=data.get("origin", "file"),
            clicks_s=read_clicks(data.get("clicks", "")),
            step=data.get("step", ""),
            own_tempo=own_tempo(task, data.get("tempo")),
            backing=_backing(task, data.get("backing", "")),
            late_s=read_number(data.get("late"), 0.0, MOST_LATE_S),
        )
    except services.TakeRefused as error:
        return _answer(422, str(error))
    except OSError:
        return _answer(507, DISK_FULL)
    return _answer(201, Location=reverse("takes:upload", args=[upload.pk]))


@student_only
@require_http_methods(["HEAD", "PATCH"])
def piece(request: Request, pk: uuid.UUID) -> HttpResponse:
    """HEAD: how far it came. PATCH: the next bytes."""
    upload = get_object_or_404(Upload, pk=pk, owner=request.user)
    if request.method == "PATCH":
        if request.headers.get("Content-Type") != "application/offset+octet-stream":
            return _answer(415)
        offset = read_id(request.headers.get("Upload-Offset"))
        if offset is None:
            return _answer(400)
        try:
            upload = services.append_to_upload(upload_id=pk, owner=request.user, offset=offset, body=cast("IO[bytes]", request))
        except Upload.DoesNotExist:
            return _answer(404)
        except ValueError:
            return _answer(409)
        except services.StorageFull:
            return _answer(507, DISK_FULL)
        except services.TakeRefused as error:
            return _answer(422, str(error))
    headers = {"Upload_Offset": str(upload.offset), "Upload_Length": str(upload.length)}
    if upload.take_id:
        # The browser keeps its own copy until it sees that the very same bytes are here.
        headers["Upload_Result"] = json.dumps({"take": upload.take_id, "sha256": upload.take.sha256 if upload.take else ""})
    return _answer(200 if request.method == "HEAD" else 204, **headers)
