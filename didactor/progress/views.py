"""Who has handed in, who is late, how it went: by assignment and by student."""

from __future__ import annotations

from dataclasses import replace

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render

from didactor.assignments.models import Assignment, Task, TaskState
from didactor.assignments.services import open_for, parts_written
from didactor.library.desk import road_map_of
from didactor.library.drawings import plain_drawings
from didactor.people.models import Enrolment, Person, Role
from didactor.people.permissions import teacher_only
from didactor.people.requests import Request
from didactor.practice.state import summaries
from didactor.progress import services
from didactor.progress.recurring import what_comes_back
from didactor.progress.rows import task_rows
from didactor.takes.models import Take


@teacher_only
def assignment(request: Request, pk: int) -> HttpResponse:
    found = get_object_or_404(Assignment.objects.visible_to(request.user), pk=pk)
    rows = task_rows(found.tasks.for_lists())
    practised = summaries([row.task for row in rows])
    rows = [replace(row, practised=practised.get(row.task.pk)) for row in rows]
    context = {
        "assignment": found,
        "rows": rows,
        "drawings": plain_drawings(found.passage),
        "road": road_map_of(found.passage),
        "progress": parts_written(found),
        "others": Enrolment.objects.visible_to(request.user).active().exclude(tasks__assignment=found),
        "may_withdraw": any(row.task.withdrawn_at is None and row.task.state != TaskState.PASSED for row in rows),
    }
    return render(request, "progress/assignment.html", context)


@teacher_only
def student(request: Request, pk: int) -> HttpResponse:
    """One student's passages, the newest first."""
    person = get_object_or_404(Person.objects.visible_to(request.user).students(), pk=pk)
    rows = task_rows(Task.objects.visible_to(request.user).given().filter(enrolment__student=person).for_lists())
    offered = [(enrolment, found) for enrolment in person.enrolments.all() for found in open_for(enrolment)]
    context = {"person": person, "rows": rows, "offered": offered, "comes_back": what_comes_back(person)}
    return render(request, "progress/student.html", context)


@teacher_only
def erase_student(request: Request, pk: int) -> HttpResponse:
    """Ask for the name, then erase a student for good."""
    person = get_object_or_404(Person.objects.visible_to(request.user).filter(role=Role.STUDENT), pk=pk)
    takes = Take.objects.filter(task__enrolment__student=person).count()
    context = {"person": person, "takes": takes}
    if request.method != "POST":
        return render(request, "progress/erase_student.html", context)
    if request.POST.get("name", "").strip().casefold() != person.name.strip().casefold():
        return render(request, "progress/erase_student.html", {**context, "trouble": "That is not the name."}, status=409)
    services.erase_student(person)
    messages.success(request, f"{person.name} and everything they recorded are erased.")
    return redirect("people:students")


@teacher_only
def erase_take(request: Request, pk: int) -> HttpResponse:
    """Ask once, then erase a take that was handed in, with the answer to it."""
    take = get_object_or_404(Take.objects.visible_to(request.user).select_related("task__assignment", "task__enrolment__student"), pk=pk)
    if request.method != "POST":
        return render(request, "progress/erase_take.html", {"take": take})
    services.erase_handed_in(take)
    messages.success(request, "The take and the answer to it are erased.")
    return redirect("assignment", pk=take.task.assignment_id)
