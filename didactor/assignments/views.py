from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render

from didactor.assignments import services
from didactor.assignments.forms import AssignmentForm
from didactor.assignments.models import Assignment, Task
from didactor.core.errors import PassageError
from didactor.core.judging.stages import STAGES
from didactor.library.models import Passage
from didactor.people.models import Person
from didactor.people.permissions import family, teacher_only
from didactor.takes.reading import plain_drawings, task_page, task_rows


@teacher_only
def index(request: HttpRequest) -> HttpResponse:
    assignments = Assignment.objects.visible_to(request.user).with_progress()[:200]
    return render(request, "assignments/index.html", {"assignments": assignments})


@teacher_only
def create(request: HttpRequest) -> HttpResponse:
    passage = get_object_or_404(Passage.objects.visible_to(request.user), pk=request.GET.get("passage") or 0)
    tempo = f"{passage.part_entry.get('tempo_qpm') or 80:g}"
    form = AssignmentForm(request.POST or None, teacher=request.user, initial={"title": str(passage), "tempo": tempo})
    if request.method == "POST" and form.is_valid():
        try:
            assignment = services.assign(
                teacher=request.user, passage=passage, enrolments=form.cleaned_data["chosen"], fields=form.assignment_fields()
            )
        except PassageError as error:
            form.add_error(None, error.message)
        else:
            messages.success(request, f"“{assignment}” is assigned.")
            return redirect("assignments:detail", pk=assignment.pk)
    return render(
        request, "assignments/create.html", {"form": form, "passage": passage, "drawings": plain_drawings(passage), "stages": STAGES}
    )


@teacher_only
def detail(request: HttpRequest, pk: int) -> HttpResponse:
    assignment = get_object_or_404(Assignment.objects.visible_to(request.user), pk=pk)
    rows = task_rows(assignment.tasks.for_lists())
    return render(
        request, "assignments/detail.html", {"assignment": assignment, "rows": rows, "drawings": plain_drawings(assignment.passage)}
    )


@family
def stand(request: HttpRequest) -> HttpResponse:
    """The student's passages of the week on one page; a guardian sees those of each ward."""
    people = Person.objects.visible_to(request.user).students()
    stands = [
        {"student": person, "rows": task_rows(Task.objects.visible_to(request.user).filter(enrolment__student=person).for_lists())}
        for person in people
    ]
    return render(request, "assignments/stand.html", {"stands": stands})


@family
def task(request: HttpRequest, pk: int) -> HttpResponse:
    """One passage to study, practise and record."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    return render(request, "assignments/task.html", task_page(found, request.user))
