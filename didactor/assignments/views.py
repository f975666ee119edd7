from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils import timezone

from didactor.assignments import services
from didactor.assignments.chains import assign_as_asked
from didactor.assignments.forms import AssignmentForm, as_typed, kept_of
from didactor.assignments.models import Assignment, Series, Task, Template
from didactor.assignments.parts import chosen_parts, part_rows
from didactor.core.errors import PassageError
from didactor.core.judging.stages import STAGES
from didactor.core.steps import proposed_ear
from didactor.core.units import quarters_to_beats_per_minute
from didactor.core.words import worded
from didactor.library.drawings import plain_drawings
from didactor.library.models import Kind, Passage
from didactor.library.notation import expectation_of
from didactor.library.study import USUAL_QPM
from didactor.people.permissions import teacher_only
from didactor.people.requests import Request
from didactor.web.numbers import read_id

#: The newest; older ones are found from their passages and students.
LISTED = 100


@teacher_only
def index(request: Request) -> HttpResponse:
    assignments = Assignment.objects.visible_to(request.user).given().with_progress()[:LISTED]
    series = Series.objects.filter(studio=request.user.studio, assignments__isnull=False).distinct()
    return render(request, "assignments/index.html", {"assignments": assignments, "series": series})


@teacher_only
def create(request: Request) -> HttpResponse:
    passage = get_object_or_404(
        Passage.objects.visible_to(request.user).select_related("revision__piece"), pk=_number(request.GET.get("passage"))
    )
    form = AssignmentForm(request.POST or None, teacher=request.user, initial=_beginning(request, passage))
    if request.method == "POST" and form.is_valid():
        try:
            chosen = form.cleaned_data["chosen"]
            fields = form.assignment_fields()
            assignment = assign_as_asked(
                teacher=request.user,
                passage=passage,
                enrolments=chosen,
                fields={**fields, "series": form.cleaned_data["series"]},
                parts=chosen_parts(passage, chosen, request.POST),
                rehearsal_days=form.cleaned_data["rehearsal_days"],
                keep_as=form.cleaned_data["keep_as"],
            )
        except PassageError as error:
            form.add_error(None, error.message)
        else:
            messages.success(request, worded("“{assignment}” is assigned.", assignment=assignment))
            return redirect("assignment", pk=assignment.pk)
    rows = part_rows(passage, form.people(), request.POST)
    templates = Template.objects.filter(studio=request.user.studio)
    context = {
        "form": form,
        "passage": passage,
        "drawings": plain_drawings(passage),
        "stages": STAGES,
        "rows": rows,
        "templates": templates,
    }
    return render(request, "assignments/create.html", context)


def _beginning(request: Request, passage: Passage) -> dict[str, Any]:
    """What the form begins with: an assignment that is given again (a week later), a template, or what is usual."""
    unit, count_off = services.usual_beat(passage)
    initial: dict[str, Any] = {
        "title": str(passage),
        "beat_unit": unit,
        "tempo": f"{quarters_to_beats_per_minute(passage.part_entry.get('tempo_qpm') or USUAL_QPM, unit):.4g}",
        "count_off": count_off,
    }
    expected = expectation_of(revision_id=passage.revision_id, part=passage.part, bars=passage.bars, order=passage.order)
    initial["step"] = "listen" if passage.revision.piece.kind == Kind.LISTENING else proposed_ear(expected).slug
    made = passage.revision.piece.made_from
    if made and made["kind"] == "sight_reading":
        initial["stage"] = "sight_reading"
    template = Template.objects.filter(studio=request.user.studio, pk=_number(request.GET.get("template"))).first()
    if template is not None:
        initial |= as_typed(template.fields)
    again = Assignment.objects.visible_to(request.user).filter(pk=_number(request.GET.get("from"))).first()
    if again is not None:
        initial |= {**kept_of(again), "title": again.title, "series": again.series or ""}
        initial["due_at"] = max(again.due_at, timezone.now()) + timedelta(days=7)
        initial["enrolments"] = [task.enrolment_id for task in again.tasks.all()]
    return initial


def _number(text: str | None) -> int:
    return read_id(text) or 0


@teacher_only
def parts_fragment(request: Request) -> HttpResponse:
    """Which part each of the students chosen so far would get."""
    passage = get_object_or_404(Passage.objects.visible_to(request.user), pk=_number(request.GET.get("passage")))
    form = AssignmentForm(request.GET, teacher=request.user)
    return render(request, "assignments/_parts.html", {"rows": part_rows(passage, form.people(), request.GET)})


@teacher_only
def progress_fragment(request: Request, pk: int) -> HttpResponse:
    """How many of the parts are written; stops asking when all are."""
    assignment = get_object_or_404(Assignment.objects.visible_to(request.user), pk=pk)
    return render(request, "assignments/_progress.html", {"assignment": assignment, "progress": services.parts_written(assignment)})


@teacher_only
def part(request: Request, pk: int) -> HttpResponse:
    """One student's part as they read it."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    return render(request, "assignments/part.html", {"task": found, "drawings": plain_drawings(found.passage)})
