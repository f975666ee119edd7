from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils import timezone

from didactor.assignments import services
from didactor.assignments.cards import printed_cards
from didactor.assignments.forms import KEPT, AssignmentForm, kept_of
from didactor.assignments.models import Assignment, Series, Task, Template, WeekNote
from didactor.assignments.parts import chosen_parts, part_rows
from didactor.assignments.studying import LAYERS, study_sheet
from didactor.core.errors import CoreError, PassageError
from didactor.core.judging.stages import STAGES
from didactor.core.score.reading_aids import NAMINGS
from didactor.core.score.roadmap import bars_between
from didactor.core.units import beat_unit_of, quarters_to_beats_per_minute
from didactor.library.models import Kind, Passage
from didactor.library.services import read_part
from didactor.library.study import USUAL_QPM
from didactor.people.models import Person
from didactor.people.permissions import anybody, family, teacher_only
from didactor.takes.reading import plain_drawings, task_page, task_rows


@teacher_only
def index(request: HttpRequest) -> HttpResponse:
    assignments = Assignment.objects.visible_to(request.user).with_progress()[:200]
    series = Series.objects.filter(studio=request.user.studio, assignments__isnull=False).distinct()
    return render(request, "assignments/index.html", {"assignments": assignments, "series": series})


@teacher_only
def create(request: HttpRequest) -> HttpResponse:
    passage = get_object_or_404(
        Passage.objects.visible_to(request.user).select_related("revision__piece"), pk=_number(request.GET.get("passage"))
    )
    form = AssignmentForm(request.POST or None, teacher=request.user, initial=_beginning(request, passage))
    if request.method == "POST" and form.is_valid():
        try:
            chosen = form.cleaned_data["chosen"]
            fields = form.assignment_fields()
            assignment = services.assign(
                teacher=request.user,
                passage=passage,
                enrolments=chosen,
                fields={**fields, "series": form.cleaned_data["series"]},
                parts=chosen_parts(passage, chosen, request.POST),
            )
            if form.cleaned_data["keep_as"].strip():
                kept = {name: fields[name] for name in KEPT}
                services.keep_template(teacher=request.user, title=form.cleaned_data["keep_as"], fields=kept)
        except PassageError as error:
            form.add_error(None, error.message)
        else:
            messages.success(request, f"“{assignment}” is assigned.")
            return redirect("assignments:detail", pk=assignment.pk)
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


def _beginning(request: HttpRequest, passage: Passage) -> dict[str, Any]:
    """What the form begins with: an assignment that is given again (a week later), a template, or what is usual."""
    first = bars_between(read_part(passage.revision_id, passage.part), passage.bars)[0]
    unit = beat_unit_of(first.beat_quarters)
    beats = round(4.0 * first.beats / first.beat_type / first.beat_quarters)  # of a whole bar: an upbeat is shorter
    initial: dict[str, Any] = {
        "title": str(passage),
        "beat_unit": unit,
        "tempo": f"{quarters_to_beats_per_minute(passage.part_entry.get('tempo_qpm') or USUAL_QPM, unit):.4g}",
        # A bar of them; two where a bar is too short to feel the pulse by.
        "count_off": min(16, beats if beats > 2 else 2 * beats),
    }
    if passage.revision.piece.kind == Kind.LISTENING:
        initial["step"] = "listen"
    template = Template.objects.filter(studio=request.user.studio, pk=_number(request.GET.get("template"))).first()
    if template is not None:
        initial |= {**template.fields, "ladder": " ".join(f"{tempo:g}" for tempo in template.fields.get("ladder", []))}
    again = Assignment.objects.visible_to(request.user).filter(pk=_number(request.GET.get("from"))).first()
    if again is not None:
        initial |= {**kept_of(again), "title": again.title, "series": again.series or ""}
        initial["due_at"] = max(again.due_at, timezone.now()) + timedelta(days=7)
        initial["enrolments"] = [task.enrolment_id for task in again.tasks.all()]
    return initial


def _number(text: str | None) -> int:
    return int(text) if text and text.isdigit() else 0


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
    today = timezone.localdate()
    monday = today - timedelta(days=today.weekday())
    notes = WeekNote.objects.visible_to(request.user).filter(monday=monday).select_related("group", "written_by")
    return render(request, "assignments/stand.html", {"stands": stands, "notes": notes})


@family
def task(request: HttpRequest, pk: int) -> HttpResponse:
    """One passage to study, practise and record. A sealed one shows nothing before its clock is started."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    if found.is_sealed:
        return render(request, "assignments/sealed.html", {"task": found, "assignment": found.assignment})
    return render(request, "assignments/task.html", task_page(found, request.user, request.GET.get("step", "")))


@anybody
def study(request: HttpRequest, pk: int) -> HttpResponse:
    """What to find out before playing, on one sheet that can be printed."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    if found.is_sealed and not request.user.is_teacher:
        return redirect("assignments:task", pk=pk)
    chosen = request.GET.getlist("layer") if "shown" in request.GET else ["key", "counting"]
    try:
        sheet, trouble = study_sheet(found, chosen, request.GET.get("naming", "letters")), ""
    except CoreError as error:
        sheet, trouble = None, error.message
    names = request.user.studio.note_names
    namings = {slug: title for slug, title in NAMINGS.items() if slug != "own" or names}
    context = {"task": found, "sheet": sheet, "trouble": trouble, "layers": LAYERS, "namings": namings}
    if sheet is not None:
        context["drawings"] = sheet.drawings
    return render(request, "assignments/_study.html" if request.htmx else "assignments/study.html", context)


@anybody
def cards(request: HttpRequest, pk: int) -> HttpResponse:
    """Rhythm cards to print and cut out."""
    found = get_object_or_404(Task.objects.visible_to(request.user).for_lists(), pk=pk)
    if found.is_sealed and not request.user.is_teacher:
        return redirect("assignments:task", pk=pk)
    try:
        made, trouble = printed_cards(found), ""
    except CoreError as error:
        made, trouble = [], error.message
    return render(request, "assignments/cards.html", {"task": found, "cards": made, "trouble": trouble})
