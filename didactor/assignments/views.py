from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render

from didactor.assignments import services
from didactor.assignments.forms import AssignmentForm
from didactor.assignments.models import Assignment, Task
from didactor.assignments.parts import chosen_parts, part_rows
from didactor.assignments.studying import LAYERS, study_sheet
from didactor.core.errors import CoreError, PassageError
from didactor.core.judging.stages import STAGES
from didactor.core.score.reading_aids import NAMINGS
from didactor.library.models import Passage
from didactor.people.models import Person
from didactor.people.permissions import anybody, family, teacher_only
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
            chosen = form.cleaned_data["chosen"]
            assignment = services.assign(
                teacher=request.user,
                passage=passage,
                enrolments=chosen,
                fields=form.assignment_fields(),
                parts=chosen_parts(passage, chosen, request.POST),
            )
        except PassageError as error:
            form.add_error(None, error.message)
        else:
            messages.success(request, f"“{assignment}” is assigned.")
            return redirect("assignments:detail", pk=assignment.pk)
    rows = part_rows(passage, form.people(), request.POST)
    context = {"form": form, "passage": passage, "drawings": plain_drawings(passage), "stages": STAGES, "rows": rows}
    return render(request, "assignments/create.html", context)


@teacher_only
def parts_fragment(request: HttpRequest) -> HttpResponse:
    """Which part each of the students chosen so far would get."""
    passage = get_object_or_404(Passage.objects.visible_to(request.user), pk=request.GET.get("passage") or 0)
    form = AssignmentForm(request.GET, teacher=request.user)
    return render(request, "assignments/_parts.html", {"rows": part_rows(passage, form.people(), request.GET)})


@teacher_only
def progress_fragment(request: HttpRequest, pk: int) -> HttpResponse:
    """How many of the parts are written; stops asking when all are."""
    assignment = get_object_or_404(Assignment.objects.visible_to(request.user), pk=pk)
    return render(request, "assignments/_progress.html", {"assignment": assignment, "progress": services.parts_written(assignment)})


@teacher_only
def detail(request: HttpRequest, pk: int) -> HttpResponse:
    assignment = get_object_or_404(Assignment.objects.visible_to(request.user), pk=pk)
    rows = task_rows(assignment.tasks.for_lists())
    context = {
        "assignment": assignment,
        "rows": rows,
        "drawings": plain_drawings(assignment.passage),
        "progress": services.parts_written(assignment),
    }
    return render(request, "assignments/detail.html", context)


@teacher_only
def part(request: HttpRequest, pk: int) -> HttpResponse:
    """One student's part as they read it."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    return render(request, "assignments/part.html", {"task": found, "drawings": plain_drawings(found.passage)})


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


@anybody
def study(request: HttpRequest, pk: int) -> HttpResponse:
    """What to find out before playing, on one sheet that can be printed."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    chosen = request.GET.getlist("layer") if "shown" in request.GET else ["key", "counting"]
    try:
        sheet, trouble = study_sheet(found, chosen, request.GET.get("naming", "letters")), ""
    except CoreError as error:
        sheet, trouble = None, error.message
    context = {"task": found, "sheet": sheet, "trouble": trouble, "layers": LAYERS, "namings": NAMINGS}
    if sheet is not None:
        context["drawings"] = sheet.drawings
    return render(request, "assignments/_study.html" if request.htmx else "assignments/study.html", context)
