"""Practising in stones: the page, attempts as they are played, the helper's count, remedies."""

from __future__ import annotations

import uuid

from django.contrib import messages
from django.http import HttpResponse, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from didactor.assignments.models import Task
from didactor.core.errors import CoreError
from didactor.core.judging.targets import TEMPO_HIGH, TEMPO_LOW
from didactor.core.planning.tempi import rungs
from didactor.core.units import beats_to_quarters_per_minute
from didactor.core.words import _, worded
from didactor.library.sounds import sound_at
from didactor.people.models import Enrolment
from didactor.people.permissions import anybody, family, student_only
from didactor.people.requests import Request
from didactor.practice import services
from didactor.practice.drilling import drill_in, drill_now, drills_of, warm_up_of
from didactor.practice.live import AWAY, GOING, ask
from didactor.practice.models import Attempt, OutcomeChoices
from didactor.practice.pages import crossing_data, crossing_page, drill_page, told
from didactor.practice.passes import already_told, pass_for
from didactor.practice.reading import ReadingRefused, level_in_words, new_line, reading_of
from didactor.practice.state import State, state_of
from didactor.web.numbers import read_id, read_number
from didactor.web.ranges import ranged_file

#: A piece of an attempt in one request.
MOST_BYTES = 4_000_000
#: The model begins after this much silence.
LEAD_S = 0.3
DISK_FULL = _("The server has no room at the moment. Nothing is lost: the attempt is kept on this device.")


def _task(request: Request, pk: int) -> Task:
    """A task of the student's own."""
    return get_object_or_404(Task.objects.filter(enrolment__student=request.user).for_lists(), pk=pk)


def _refused(error: services.AttemptRefused) -> JsonResponse:
    return JsonResponse({"says": str(error)}, status=422)


def _after(attempt: Attempt) -> dict[str, object]:
    """What an attempt was, and how what it belongs to stands now."""
    now = {"drill": drill_now(attempt)} if attempt.drill_id is not None else {"crossing": _now(attempt.task)}
    return {"state": "over", "attempt": told(attempt), **now}


def _now(task: Task) -> dict[str, object] | None:
    state = state_of(task)
    return crossing_data(state) if state else None


@anybody
def crossing(request: Request, pk: int) -> HttpResponse:
    """The passage with its stones. Guardian and teacher see where it stands."""
    task = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    state: State | None = None if task.is_sealed else state_of(task)
    if state is None:
        return redirect("assignment", pk=task.assignment_id) if request.user.is_teacher else redirect("task", pk=pk)
    return render(request, "practice/crossing.html", crossing_page(state, request.user))


def _begun(request: Request) -> services.Begun | None:
    """What a device says of an attempt; None for what makes no sense."""
    sent = request.POST
    try:
        number = uuid.UUID(sent.get("id", ""))
    except ValueError:
        return None
    tempo, rate = read_number(sent.get("tempo"), TEMPO_LOW, TEMPO_HIGH), read_id(sent.get("rate") or "0")
    start_s = read_number(sent.get("start") or "0", 0.0, services.LONGEST_S)
    ago_s = read_number(sent.get("ago") or "0", 0.0, services.LATEST.total_seconds())
    remedy = read_id(sent["remedy"]) if sent.get("remedy") else None
    kind, of = sent.get("kind", ""), sent.get("of", "")
    if tempo is None or rate is None or start_s is None or ago_s is None or (sent.get("remedy") and remedy is None):
        return None
    return services.Begun(
        id=number,
        stone=sent.get("stone", ""),
        tempo=tempo,
        rate=rate,
        start_s=start_s,
        remedy=remedy,
        trial=sent.get("trial") == "1",
        ago_s=ago_s,
        drill=(kind[:20], of[:200]) if kind else None,
        prompt=sent.get("prompt", "")[:80],
    )


@student_only
@require_POST
def begin(request: Request, pk: int) -> HttpResponse:
    """An attempt is about to be played."""
    task, begun = _task(request, pk), _begun(request)
    if begun is None:
        return JsonResponse({"says": worded("This attempt makes no sense. Open the page again.")}, status=400)
    try:
        attempt = services.begin_attempt(student=request.user, task=task, begun=begun)
    except services.AttemptRefused as error:
        return _refused(error)
    return JsonResponse({"begun": True, "pass": pass_for(request, attempt)})


@student_only
@require_POST
def piece(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The next samples; the answer says how the attempt stands. With ``last`` it is over, whatever was heard. Most pieces that only go on
    come ``by_pass``.
    """
    attempt = get_object_or_404(Attempt.objects.filter(task__enrolment__student=request.user).only("rate", "ended"), pk=pk)
    offset = read_id(request.GET.get("at"))
    body = request.read(MOST_BYTES + 1)
    if offset is None or len(body) > MOST_BYTES or len(body) % 2:
        return JsonResponse({"says": worded("This piece makes no sense.")}, status=400)
    try:
        size = services.add_piece(attempt, offset, body)
    except services.OutOfStep as error:
        return JsonResponse({"size": error.size}, status=409)
    except services.AttemptRefused as error:
        return _refused(error)
    except OSError:
        return JsonResponse({"says": DISK_FULL}, status=507)
    heard_s, last = size / 2 / attempt.rate, "last" in request.GET
    standing = already_told(request) or ask(attempt.pk, body, rate_hz=attempt.rate, heard_s=heard_s, last=last)
    if standing.state != GOING or last:
        # What surrounds it is asked for once, at its end: pieces come several times a second.
        attempt = Attempt.objects.with_task().get(pk=attempt.pk)
        if not attempt.ended and last:
            attempt = services.end_unheard(attempt)
        if attempt.ended:
            return JsonResponse(_after(attempt))
    return JsonResponse({"state": AWAY if standing.state == AWAY else GOING, "waits": standing.waits})


@student_only
@require_POST
def by_hand(request: Request, pk: int) -> HttpResponse:
    """The helper has heard an attempt."""
    task, begun = _task(request, pk), _begun(request)
    outcome = request.POST.get("outcome")
    if begun is None or outcome not in (OutcomeChoices.CLEAN, OutcomeChoices.FAULT):
        return JsonResponse({"says": worded("This attempt makes no sense. Open the page again.")}, status=400)
    try:
        attempt = services.judged_by_hand(student=request.user, task=task, begun=begun, clean=outcome == OutcomeChoices.CLEAN)
    except services.AttemptRefused as error:
        return _refused(error)
    return JsonResponse(_after(attempt))


@student_only
@require_POST
def take_back(request: Request, pk: int) -> HttpResponse:
    """The helper pressed the wrong button."""
    task, begun = _task(request, pk), _begun(request)
    if begun is not None:
        services.take_back(student=request.user, task=task, attempt_id=begun.id)
    return JsonResponse({"crossing": _now(task)})


@student_only
@require_POST
def remedy(request: Request, pk: int) -> HttpResponse:
    """A remedy is taken up, ticked off or put aside."""
    task = _task(request, pk)
    number = read_id(request.POST.get("remedy"))
    if number is not None:
        services.answer_remedy(student=request.user, task=task, remedy_id=number, answer=request.POST.get("answer", ""))
    return JsonResponse({"crossing": _now(task)})


@family
@require_POST
def habit(request: Request, pk: int) -> HttpResponse:
    """The household says how many minutes a day, and on which days none."""
    task = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    minutes, days = read_id(request.POST.get("minutes")), [read_id(day) for day in request.POST.getlist("off")]
    try:
        services.keep_habit(task.enrolment, minutes or 0, [day if day is not None else 7 for day in days])
    except services.AttemptRefused as error:
        messages.error(request, str(error))
    return redirect("practice:crossing", pk=pk)


@family
def state(request: Request, pk: int) -> HttpResponse:
    """Where the crossing stands; asked again while attempts wait to be heard."""
    task = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    found = None if task.is_sealed else _now(task)
    return JsonResponse({"crossing": found}, status=200 if found else 404)


@family
@require_POST
def model(request: Request, pk: int) -> HttpResponse:
    """How the passage goes, at one of its tempi; asked for again until it is rendered."""
    task = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    tempo = read_id(request.POST.get("tempo"))
    found = None if task.is_sealed else state_of(task)
    allowed = {*rungs(task.asked_tempo, task.assignment.ladder), *(found.rungs if found else ())}
    if task.is_sealed or tempo not in allowed:
        return JsonResponse({"failed": True}, status=400)
    qpm = beats_to_quarters_per_minute(tempo, task.assignment.beat_unit)
    sound = sound_at(passage=task.passage, instrument=task.enrolment.instrument, tempo_qpm=qpm, count_off=0, accompaniment=False, naming="")
    if sound is None or sound.failed:
        return JsonResponse({"failed": True})
    if not sound.sound:
        return JsonResponse({"waiting": True})
    return JsonResponse({"url": reverse("library:model_sound", args=[sound.pk]), "leadS": LEAD_S, "tempo": tempo})


@anybody
def drills(request: Request, pk: int) -> HttpResponse:
    """What can be drilled in a task's passage, and what came of it."""
    task = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    context = {
        "task": task,
        "assignment": task.assignment,
        "kinds": drills_of(task),
        "plays_here": task.enrolment.student_id == request.user.pk,
    }
    return render(request, "practice/drills.html", context)


@student_only
def drill(request: Request, pk: int, kind: str) -> HttpResponse:
    """One drill, to be played."""
    task = _task(request, pk)
    found = drill_in(task, kind, request.GET.get("of", ""))
    if found is None:
        messages.error(request, worded("The passage has changed: this drill is there no more."))
        return redirect("practice:drills", pk=pk)
    return render(request, "practice/drill.html", drill_page(task, found, warm="warm" in request.GET))


#: More touches than this make no sense.
MOST_TOUCHES = 64


@student_only
@require_POST
def touched(request: Request, pk: int) -> HttpResponse:
    """Names were touched in time: ``at`` in seconds from the first one's beat, and ``name``, in the same order."""
    task, begun = _task(request, pk), _begun(request)
    at = [read_number(text, 0.0, services.LONGEST_S) for text in request.POST.getlist("at")]
    names = request.POST.getlist("name")
    if begun is None or None in at or len(at) != len(names) or len(at) > MOST_TOUCHES:
        return JsonResponse({"says": worded("This makes no sense. Open the page again.")}, status=400)
    touches = [(when, name) for when, name in zip(at, names, strict=True) if when is not None]
    try:
        attempt = services.touched(student=request.user, task=task, begun=begun, touches=touches)
    except services.AttemptRefused as error:
        return _refused(error)
    return JsonResponse(_after(attempt))


@anybody
def warm_up(request: Request, pk: int) -> HttpResponse:
    """A minute of the slowest changes across all pieces."""
    enrolment = get_object_or_404(Enrolment.objects.visible_to(request.user).select_related("student"), pk=pk)
    context = {"enrolment": enrolment, "warm": warm_up_of(enrolment), "plays_here": enrolment.student_id == request.user.pk}
    return render(request, "practice/warm_up.html", context)


@anybody
def reading(request: Request, pk: int) -> HttpResponse:
    """What was read at sight by oneself, and the next line."""
    enrolment = get_object_or_404(Enrolment.objects.visible_to(request.user).select_related("student"), pk=pk)
    found = reading_of(enrolment)
    context = {
        "enrolment": enrolment,
        "reading": found,
        "level": level_in_words(found, enrolment),
        "reads_here": enrolment.student_id == request.user.pk,
    }
    return render(request, "practice/reading.html", context)


@student_only
@require_POST
def next_line(request: Request, pk: int) -> HttpResponse:
    """The next line, sealed."""
    enrolment = get_object_or_404(Enrolment.objects.visible_to(request.user), pk=pk)
    try:
        task = new_line(student=request.user, enrolment=enrolment)
    except (ReadingRefused, CoreError) as error:
        messages.error(request, str(error))
        return redirect("practice:reading", pk=pk)
    return redirect("task", pk=task.pk)


@anybody
def sound(request: Request, pk: uuid.UUID) -> HttpResponseBase:
    """An attempt, to be heard again."""
    attempt = get_object_or_404(Attempt.objects.visible_to(request.user).exclude(sound=""), pk=pk)
    return ranged_file(request, attempt.sound, "audio/mp4")
