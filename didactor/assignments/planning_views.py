"""What happens to an assignment after it is given out, and around it: changes, exceptions, series, notes of the week, the calendar."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django import forms
from django.contrib import messages
from django.db.models import Prefetch
from django.http import Http404, HttpResponse, HttpResponseBase
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.utils.formats import date_format
from django.views.decorators.http import require_POST

from didactor.assignments import services
from didactor.assignments.calendar import calendar_key, calendar_of, new_address, person_of
from didactor.assignments.chains import give_series_again
from didactor.assignments.checklists import checklist_for
from didactor.assignments.forms import KEPT, AssignmentForm, ChangeForm, ExceptionForm, SeriesAgainForm, WeekNoteForm, kept_of
from didactor.assignments.models import Assignment, Series, Task, WeekNote
from didactor.assignments.series import grid_of
from didactor.core.errors import CoreError, PassageError
from didactor.core.instruments import find_instrument
from didactor.core.judging.stages import STAGES
from didactor.core.words import _, counted, worded
from didactor.library.drawings import plain_drawings
from didactor.library.said import content_type
from didactor.people.models import Enrolment
from didactor.people.permissions import anybody, teacher_only
from didactor.people.requests import Request
from didactor.web.numbers import read_id
from didactor.web.ranges import ranged_file

OVERTAKEN = _(
    "Somebody else changed this assignment while you were at it. What you typed is still here; keep it to put it in place of theirs."
)


def _own(request: Request, pk: int) -> Assignment:
    return get_object_or_404(Assignment.objects.visible_to(request.user).select_related("series", "passage__revision__piece"), pk=pk)


@teacher_only
def change(request: Request, pk: int) -> HttpResponse:
    """Targets, date and words of an assignment that is given out."""
    found = _own(request, pk)
    initial = {**kept_of(found), "title": found.title, "due_at": found.due_at, "series": found.series or "", "version": found.version}
    form = ChangeForm(request.POST or None, teacher=request.user, initial=initial)
    status = 200
    if request.method == "POST" and form.is_valid():
        try:
            fields = form.assignment_fields()
            services.change_assignment(assignment=found, teacher=request.user, version=form.cleaned_data["version"], fields=fields)
        except services.Overtaken:
            form, status = _over_theirs(request, found, form), 409
        except PassageError as error:
            form.add_error(None, error.message)
            status = 422
        else:
            messages.success(request, worded("The assignment is changed. Takes that came in keep what they were judged against."))
            return redirect("assignment", pk=pk)
    context = {"form": form, "assignment": found, "passage": found.passage, "stages": STAGES, "drawings": plain_drawings(found.passage)}
    return render(request, "assignments/change.html", context, status=status)


@teacher_only
@require_POST
def spoken(request: Request, pk: int) -> HttpResponse:
    """What is to be done, said by the teacher, for those who do not read yet; without a file what was said is taken back."""
    found = _own(request, pk)
    try:
        services.set_spoken(assignment=found, upload=request.FILES.get("file"))
    except CoreError as error:
        messages.error(request, error.message)
    else:
        messages.success(request, worded("Your words are kept.") if found.spoken else worded("Your words are taken back."))
    return redirect("assignments:change", pk=pk)


def _over_theirs(request: Request, found: Assignment, refused: ChangeForm) -> ChangeForm:
    """The same form over the assignment as it stands now, with what stands there where it differs."""
    found.refresh_from_db()
    data = request.POST.copy()
    data["version"] = str(found.version)
    form = ChangeForm(data, teacher=request.user)
    form.add_error(None, OVERTAKEN)
    typed = refused.assignment_fields()
    now = {"title": found.title, "due_at": found.due_at, **{name: getattr(found, name) for name in KEPT}}
    for name, stands in now.items():
        if name in form.fields and (typed.get(name) or None) != (stands or None):
            form.add_error(name, worded("Stands there now: {value}", value=_in_words(form.fields[name], stands)))
    return form


def _in_words(field: forms.Field, value: Any) -> str:
    """A field's value as a person reads it."""
    titles = dict(getattr(field, "choices", ()))
    if isinstance(value, list):
        return ", ".join(str(titles.get(v, v)) for v in value) or "nothing"
    if isinstance(value, datetime):
        return date_format(timezone.localtime(value), "j M Y, H:i")
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:g}"
    return str(titles.get(value, value)) if value not in (None, "") else "nothing"


@teacher_only
def exception(request: Request, pk: int) -> HttpResponse:
    """A tempo and a date for one student alone."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    form = ExceptionForm(request.POST or None, initial={"tempo": found.tempo, "due_at": found.own_due_at})
    if request.method == "POST" and form.is_valid():
        try:
            services.set_exception(task=found, tempo=form.cleaned_data["tempo"], due_at=form.cleaned_data["due_at"])
        except PassageError as error:
            form.add_error("tempo", error.message)
        else:
            return redirect("assignment", pk=found.assignment_id)
    return render(request, "assignments/exception.html", {"form": form, "task": found})


@teacher_only
@require_POST
def withdraw(request: Request, pk: int) -> HttpResponse:
    """Nothing more is expected of anybody here."""
    found = get_object_or_404(Assignment.objects.visible_to(request.user), pk=pk)
    count = services.withdraw(found.tasks.all())
    if count:
        messages.success(
            request,
            counted(
                "Withdrawn from 1 student. What was handed in stays; below you can give it again.",
                "Withdrawn from {count} students. What was handed in stays; below you can give it again.",
                count,
            ),
        )
    else:
        messages.info(request, worded("There is nothing left to withdraw: all of them passed, or had it withdrawn before."))
    return redirect("assignment", pk=found.pk)


@teacher_only
@require_POST
def withdraw_task(request: Request, pk: int) -> HttpResponse:
    """The same for one student."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    if services.withdraw(Task.objects.filter(pk=found.pk)):
        messages.success(request, worded("Withdrawn from {student}. What was handed in stays.", student=found.student))
    else:
        messages.info(request, worded("{student} has passed it, or had it withdrawn before.", student=found.student))
    return redirect("assignment", pk=found.assignment_id)


@teacher_only
@require_POST
def give(request: Request, pk: int) -> HttpResponse:
    """To more students, or again to those it was withdrawn from."""
    found = get_object_or_404(Assignment.objects.visible_to(request.user), pk=pk)
    numbers = [n for text in request.POST.getlist("enrolment") if (n := read_id(text)) is not None]
    chosen = Enrolment.objects.visible_to(request.user).active().filter(pk__in=numbers)
    try:
        count = services.give_to(assignment=found, enrolments=chosen)
    except PassageError as error:
        messages.error(request, error.message)
    else:
        if count:
            messages.success(
                request, counted("“{found}” is given to {count} student.", "“{found}” is given to {count} students.", count, found=found)
            )
        else:
            messages.info(request, worded("Choose at least one student who does not have it."))
    return redirect("assignment", pk=found.pk)


@teacher_only
def checklist_fragment(request: Request) -> HttpResponse:
    """The usual checklist for the stage and the instruments chosen so far."""
    form = AssignmentForm(request.GET, teacher=request.user)
    families = {find_instrument(e.instrument).family for e in form.people()}
    fresh = AssignmentForm(teacher=request.user, initial={"checklist": checklist_for(request.GET.get("stage", ""), families)})
    return render(request, "assignments/_checklist.html", {"form": fresh})


@anybody
def note_said(request: Request, pk: int) -> HttpResponseBase:
    """What was said or filmed for a week, for whoever finds the note on their stand."""
    found = get_object_or_404(WeekNote.objects.visible_to(request.user).exclude(said=""), pk=pk)
    return ranged_file(request, found.said, content_type(str(found.said.name)))


@teacher_only
def week_note(request: Request) -> HttpResponse:
    """A few words to a group for a week."""
    form = WeekNoteForm(request.POST or None, teacher=request.user)
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        place = {"teacher": request.user, "group": data["group"], "day": data["week"]}
        try:
            note = services.write_week_note(**place, text=data["text"], said=request.FILES.get("said"))
        except CoreError as error:
            form.add_error(None, error.message)
        else:
            messages.success(request, worded("The note is kept.") if note else worded("The note is gone."))
            return redirect("assignments:week_note")
    notes = WeekNote.objects.visible_to(request.user).select_related("group")[:40]
    return render(request, "assignments/week_note.html", {"form": form, "notes": notes})


@teacher_only
def series(request: Request, pk: int) -> HttpResponse:
    """A series as a grid: students down, check-offs across."""
    found = get_object_or_404(Series.objects.filter(studio=request.user.studio), pk=pk)
    if request.method == "POST":
        services.set_order(series=found, in_order="in_order" in request.POST)
        messages.success(
            request, worded("Each opens when the one before it is passed.") if found.in_order else worded("All of them are open.")
        )
        return redirect("assignments:series", pk=pk)
    return _series(request, found, SeriesAgainForm(teacher=request.user))


def _series(request: Request, found: Series, again: SeriesAgainForm, status: int = 200) -> HttpResponse:
    tasks = Task.objects.select_related("enrolment__student")
    assignments = list(found.assignments.order_by("due_at").prefetch_related(Prefetch("tasks", queryset=tasks)))
    context = {"series": found, "grid": grid_of(assignments), "again": again}
    return render(request, "assignments/series.html", context, status=status)


@teacher_only
@require_POST
def series_again(request: Request, pk: int) -> HttpResponse:
    """The whole chain once more: for another term, or for other students."""
    found = get_object_or_404(Series.objects.filter(studio=request.user.studio), pk=pk)
    form = SeriesAgainForm(request.POST, teacher=request.user)
    if form.is_valid():
        data = form.cleaned_data
        try:
            made, count = give_series_again(
                series=found,
                teacher=request.user,
                title=data["title"],
                first_due=data["first_due"],
                enrolments=list(Enrolment.objects.visible_to(request.user).active().filter(group=data["group"])),
            )
        except PassageError as error:
            form.add_error(None, error.message)
        else:
            first = date_format(data["first_due"], worded("j F"))
            messages.success(
                request,
                counted(
                    "“{series}” is given to {group}: 1 check-off, due on {first}.",
                    "“{series}” is given to {group}: {count} check-offs, the first due on {first}.",
                    count,
                    series=made,
                    group=data["group"],
                    first=first,
                ),
            )
            return redirect("assignments:series", pk=made.pk)
    return _series(request, found, form, status=422)


def calendar(request: Request, key: str) -> HttpResponse:
    """Due dates for a calendar program, which cannot sign in: the address itself is the key."""
    person = person_of(key)
    if person is None:
        raise Http404
    response = HttpResponse(calendar_of(person), content_type="text/calendar; charset=utf-8")
    response["Cache-Control"] = "private, max-age=600"
    return response


@anybody
def calendar_address(request: Request) -> HttpResponse:
    """The address to give to a calendar program, or a new one when the old one got into other hands."""
    if request.method == "POST":
        new_address(request.user)
        messages.success(request, worded("Here is a new address. The old one opens nothing any more."))
        return redirect("assignments:calendar_address")
    address = request.build_absolute_uri(reverse("assignments:calendar", args=[calendar_key(request.user)]))
    return render(request, "assignments/calendar.html", {"address": address})


@teacher_only
@require_POST
def decide_answer(request: Request, pk: int) -> HttpResponse:
    """Take an answer in words, or ask for it once more."""
    found = get_object_or_404(Task.objects.visible_to(request.user), pk=pk)
    if not services.decide_answer(task=found, passed=request.POST.get("passed") == "1", reply=request.POST.get("reply", "")):
        messages.info(request, worded("This answer was decided on already."))
    return redirect("assignment", pk=found.assignment_id)
