"""Who has handed in, who is late, how it went: by assignment and by student."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

from django.contrib import messages
from django.db.models import Count
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_POST

from didactor.assignments.models import Assignment, Task, TaskState
from didactor.assignments.services import open_for, parts_written
from didactor.core.errors import CoreError
from didactor.core.judging.targets import TEMPO_HIGH, TEMPO_LOW
from didactor.core.words import counted, worded
from didactor.library.desk import road_map_of
from didactor.library.drawings import plain_drawings
from didactor.library.notation import expectation_of_passage
from didactor.people.acts import Act
from didactor.people.models import Enrolment, Group, Person
from didactor.people.permissions import anybody, teacher_only
from didactor.people.requests import Request
from didactor.practice.state import summaries
from didactor.progress import class_sheet as sheets
from didactor.progress import services
from didactor.progress.files import csv_file
from didactor.progress.forms import TermForm
from didactor.progress.grid import grid_csv, grid_of, marks_csv
from didactor.progress.over_weeks import over_weeks, takes_csv, takes_then
from didactor.progress.paper import pdf_file
from didactor.progress.recurring import what_comes_back
from didactor.progress.rows import task_rows
from didactor.progress.sheets import answer_sheet, term_sheet
from didactor.review.services import ReviewRefused
from didactor.takes.bands import TogetherRefused, agreed_among, take_away
from didactor.takes.models import Take, Together
from didactor.takes.permissions import sight_of
from didactor.takes.services import begin_together
from didactor.web.numbers import read_id, read_number

#: Recordings of all together on a class sheet.
TOGETHER_SHOWN = 6
#: Passages on a student's page; the rest is one touch away.
PASSAGES_SHOWN = 24
#: What a term report shows without dates.
TERM = timedelta(days=120)


@teacher_only
def assignment(request: Request, pk: int) -> HttpResponse:
    seen = Assignment.objects.visible_to(request.user).select_related("passage__revision__piece", "passage__arranged_from")
    found = get_object_or_404(seen.defer("passage__revision__prepared"), pk=pk)
    rows = task_rows(found.tasks.for_lists())
    practised = summaries([row.task for row in rows])
    rows = [replace(row, practised=practised.get(row.task.pk)) for row in rows]
    context = {
        "assignment": found,
        "rows": rows,
        "drawings": plain_drawings(found.passage),
        "road": road_map_of(found.passage),
        "progress": parts_written(found),
        "has_takes": any(row.take is not None and row.take.is_submitted for row in rows),
        "others": Enrolment.objects.visible_to(request.user).active().exclude(tasks__assignment=found),
        "may_withdraw": any(row.task.withdrawn_at is None and row.task.state != TaskState.PASSED for row in rows),
    }
    return render(request, "progress/assignment.html", context)


@teacher_only
def class_sheet(request: Request, pk: int) -> HttpResponse:
    """All takes of one assignment beside each other; what many share becomes a remark to them, or one on the passage."""
    found = get_object_or_404(Assignment.objects.visible_to(request.user).select_related("passage__revision__piece"), pk=pk)
    music = expectation_of_passage(found.passage)
    bars = list(dict.fromkeys(bar.number for bar in music.bars))
    beat = music.bars[0].beat_quarters if music.bars else 1.0
    sheet = sheets.sheet_of(found, bars, beat)
    if request.method == "POST":
        return _said_to_all(request, found, sheet)
    faults = [{"common": one, "place": one.place(beat), "says": one.says(beat)} for one in sheet.common]
    made = Together.objects.visible_to(request.user)
    context = {
        "assignment": found,
        "sheet": sheet,
        "faults": faults,
        "reel": sheets.sounds_of(sheet),
        "together": list(made.filter(assignment=found).annotate(count=Count("takes"))[:TOGETHER_SHOWN]),
        "agreed": agreed_among({row.student.pk for row in sheet.rows}),
    }
    return render(request, "progress/sheet.html", context)


@teacher_only
@require_POST
def make_together(request: Request, pk: int) -> HttpResponse:
    """Put the ticked takes together into one recording."""
    found = get_object_or_404(Assignment.objects.visible_to(request.user), pk=pk)
    tempo = read_number(request.POST.get("tempo", ""), TEMPO_LOW, TEMPO_HIGH)
    chosen = [number for number in map(read_id, request.POST.getlist("take")) if number is not None]
    try:
        if tempo is None:
            raise TogetherRefused(
                worded("Write the tempo as a number between {tempo_low:g} and {tempo_high:g}.", tempo_low=TEMPO_LOW, tempo_high=TEMPO_HIGH)
            )
        begin_together(assignment=found, teacher=request.user, takes=chosen, tempo=tempo)
        messages.success(request, worded("They are being put together; it takes a few seconds a take."))
    except TogetherRefused as error:
        messages.error(request, str(error))
    return redirect(f"{reverse('class_sheet', args=[pk])}#together")


@teacher_only
@require_POST
def drop_together(request: Request, pk: int) -> HttpResponse:
    """One such recording is gone."""
    made = get_object_or_404(Together.objects.filter(assignment__studio=request.user.studio), pk=pk)
    take_away(made)
    messages.success(request, worded("It is gone."))
    return redirect(f"{reverse('class_sheet', args=[made.assignment_id])}#together")


def _said_to_all(request: Request, found: Assignment, sheet: sheets.Sheet) -> HttpResponse:
    number, text = read_id(request.POST.get("fault")), request.POST.get("text", "").strip()
    if number is None or number >= len(sheet.common):
        messages.error(request, worded("The sheet has changed meanwhile. Look again, then say it."))
        return redirect("class_sheet", pk=found.pk)
    common = sheet.common[number]
    try:
        if "passage" in request.POST:
            sheets.warn_all(assignment=found, bar=common.bar, text=text)
            messages.success(request, worded("It stands at bar {bar} of the passage now, for all who play it.", bar=common.bar))
        else:
            given, answered = sheets.remark_to_all(assignment=found, teacher=request.user, common=common, text=text)
            put = counted("Put into 1 answer that you have not sent yet.", "Put into {count} answers that you have not sent yet.", given)
            messages.success(request, put)
            if answered:
                messages.info(request, counted("1 of them is answered already.", "{count} of them are answered already.", answered))
    except (ReviewRefused, CoreError) as error:
        messages.error(request, str(error))
    return redirect("class_sheet", pk=found.pk)


@teacher_only
def student(request: Request, pk: int) -> HttpResponse:
    """One student's passages, the newest first."""
    person = get_object_or_404(Person.objects.visible_to(request.user).students(), pk=pk)
    most = None if "all" in request.GET else PASSAGES_SHOWN
    given = Task.objects.visible_to(request.user).given().filter(enrolment__student=person)
    rows = task_rows(given.for_lists().order_by("-assignment__due_at", "-pk"), most)
    offered = [(enrolment, found) for enrolment in person.enrolments.all() for found in open_for(enrolment)]
    context = {"person": person, "rows": rows, "offered": offered, "comes_back": what_comes_back(person), "more": most == len(rows)}
    return render(request, "progress/student.html", context)


@teacher_only
def weeks(request: Request, pk: int) -> HttpResponse:
    """One student over weeks, in pictures with their figures behind them."""
    person = get_object_or_404(Person.objects.visible_to(request.user).students(), pk=pk)
    today = timezone.localdate()
    context = {"person": person, "weeks": over_weeks(person), "comes_back": what_comes_back(person), "term": (today - TERM, today)}
    return render(request, "progress/weeks.html", context)


@teacher_only
def takes_file(request: Request, pk: int) -> HttpResponse:
    """The same as a table for other programs."""
    person = get_object_or_404(Person.objects.visible_to(request.user).students(), pk=pk)
    return csv_file(takes_csv(takes_then(person)), f"{person.name} takes")


@teacher_only
def group(request: Request, pk: int) -> HttpResponse:
    """Who has come how far in a group: students down, what was given across."""
    found = get_object_or_404(Group.objects.visible_to(request.user), pk=pk)
    return render(request, "progress/group.html", {"group": found, "grid": grid_of(found, read_id(request.GET.get("series")))})


@teacher_only
def grid_file(request: Request, pk: int) -> HttpResponse:
    """The grid as a table for other programs."""
    found = get_object_or_404(Group.objects.visible_to(request.user), pk=pk)
    return csv_file(grid_csv(grid_of(found, read_id(request.GET.get("series")))), f"{found.name} grid")


@teacher_only
def marks_file(request: Request, pk: int) -> HttpResponse:
    """Answers and marks of the term as a table for other programs."""
    found = get_object_or_404(Group.objects.visible_to(request.user), pk=pk)
    return csv_file(marks_csv(found), f"{found.name} marks")


@anybody
def answer_paper(request: Request, pk: int) -> HttpResponse:
    """An answer that was sent, on paper: for the student, the guardians and the teacher."""
    take = get_object_or_404(Take.objects.visible_to(request.user).filter(submission__review__sent_at__isnull=False), pk=pk)
    context = answer_sheet(take.submission.review, sight_of(take, request.user))
    return pdf_file("progress/paper/answer.html", context, f"{take.task.enrolment.student.name} {take.task.assignment}")


@teacher_only
def term_paper(request: Request, pk: int) -> HttpResponse:
    """One student's term on paper; without dates the last four months."""
    person = get_object_or_404(Person.objects.visible_to(request.user).students(), pk=pk)
    form = TermForm(request.GET or None)
    today = timezone.localdate()
    if request.GET and not form.is_valid():
        messages.error(request, worded("Write both days, the first before the last."))
        return redirect("progress:weeks", pk=pk)
    days = (form.cleaned_data["from_day"], form.cleaned_data["to_day"]) if request.GET else (today - TERM, today)
    return pdf_file("progress/paper/term.html", term_sheet(person, *days), f"{person.name} term")


@teacher_only
def erase_student(request: Request, pk: int) -> HttpResponse:
    """Ask for the name, then erase a student for good."""
    person = get_object_or_404(Person.objects.whom(request.user, Act.ERASE), pk=pk)
    takes = Take.objects.filter(task__enrolment__student=person).count()
    context = {"person": person, "takes": takes}
    if request.method != "POST":
        return render(request, "progress/erase_student.html", context)
    if request.POST.get("name", "").strip().casefold() != person.name.strip().casefold():
        return render(request, "progress/erase_student.html", {**context, "trouble": worded("That is not the name.")}, status=409)
    services.erase_student(person)
    messages.success(request, worded("{name} and everything they recorded are erased.", name=person.name))
    return redirect("people:students")


@teacher_only
def erase_take(request: Request, pk: int) -> HttpResponse:
    """Ask once, then erase a take that was handed in, with the answer to it."""
    take = get_object_or_404(Take.objects.visible_to(request.user).select_related("task__assignment", "task__enrolment__student"), pk=pk)
    if request.method != "POST":
        return render(request, "progress/erase_take.html", {"take": take})
    services.erase_handed_in(take)
    messages.success(request, worded("The take and the answer to it are erased."))
    return redirect("assignment", pk=take.task.assignment_id)
