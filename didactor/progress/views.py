"""Who has handed in, who is late, how it went: by assignment and by student."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render

from didactor.assignments.models import Assignment, Task
from didactor.assignments.services import parts_written
from didactor.library.drawings import plain_drawings
from didactor.people.models import Person
from didactor.people.permissions import teacher_only
from didactor.progress.rows import task_rows


@teacher_only
def assignment(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Assignment.objects.visible_to(request.user), pk=pk)
    rows = task_rows(found.tasks.for_lists())
    context = {
        "assignment": found,
        "rows": rows,
        "drawings": plain_drawings(found.passage),
        "progress": parts_written(found),
    }
    return render(request, "progress/assignment.html", context)


@teacher_only
def student(request: HttpRequest, pk: int) -> HttpResponse:
    """One student's passages, the newest first."""
    person = get_object_or_404(Person.objects.visible_to(request.user).students(), pk=pk)
    rows = task_rows(Task.objects.visible_to(request.user).filter(enrolment__student=person).for_lists())
    return render(request, "progress/student.html", {"person": person, "rows": rows})
