from __future__ import annotations

from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

from django.db import models
from django.db.models import Exists, ExpressionWrapper, F, OuterRef, Q
from django.db.models.functions import Coalesce
from django.utils import timezone

from didactor.people.models import Group

if TYPE_CHECKING:
    from didactor.assignments.models import Task
    from didactor.people.models import Person


#: Tasks that nobody expects anything of any more, and of which nothing came.
GONE = {"withdrawn_at__isnull": False, "state__in": ("open", "in_work")}


class AssignmentQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> AssignmentQuerySet:
        if not person.is_authenticated or not person.is_teacher:
            return self.none()
        return self.filter(studio=person.studio)

    def given(self) -> AssignmentQuerySet:
        """Without the lines that students read at sight by themselves."""
        return self.filter(own_grade=None)

    def with_progress(self) -> AssignmentQuerySet:
        """With the number of tasks in each state of interest."""
        return self.annotate(
            task_count=models.Count("tasks", filter=~Q(**{f"tasks__{field}": value for field, value in GONE.items()})),
            open_count=models.Count("tasks", filter=Q(tasks__state__in=("open", "in_work"), tasks__withdrawn_at=None)),
            withdrawn_count=models.Count("tasks", filter=Q(tasks__withdrawn_at__isnull=False)),
            handed_in_count=models.Count("tasks", filter=Q(tasks__state="handed_in")),
            answered_count=models.Count("tasks", filter=Q(tasks__state="answered")),
            passed_count=models.Count("tasks", filter=Q(tasks__state="passed")),
        )


class TaskQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> TaskQuerySet:
        """A teacher's studio, one's own, and those of one's wards; what was withdrawn before it was handed in only a teacher sees."""
        if not person.is_authenticated:
            return self.none()
        if person.is_teacher:
            return self.filter(assignment__studio=person.studio)
        return self.filter(enrolment__student__in=person.family()).exclude(**GONE)

    def answers_waiting_for(self, teacher: Person) -> TaskQuerySet:
        """Answers in words that nobody has taken yet, oldest first."""
        return self.visible_to(teacher).filter(state="handed_in", answered_at__isnull=False).order_by("answered_at")

    def given(self) -> TaskQuerySet:
        """Without the lines that a student reads at sight by themselves."""
        return self.filter(assignment__own_grade=None)

    def on_the_stand(self) -> TaskQuerySet:
        """In the teacher's order, the rest by date."""
        due = Coalesce("own_due_at", "assignment__due_at")
        return self.given().order_by(models.F("assignment__place").asc(nulls_last=True), due, "pk")

    def split(self) -> tuple[TaskQuerySet, TaskQuerySet]:
        """What is still to be done, and what is over: passed or withdrawn, the newest first."""
        over = Q(state="passed") | Q(withdrawn_at__isnull=False)
        return self.exclude(over), self.filter(over).order_by("-assignment__due_at", "-pk")

    def not_passed_before(self, task: Task) -> TaskQuerySet:
        """What this student has not passed of the same series and is due before it, the first first. Withdrawn ones hold nothing up."""
        own = self.filter(enrolment=task.enrolment_id, assignment__series=task.assignment.series_id, withdrawn_at=None)
        due = task.assignment.due_at
        before = Q(assignment__due_at__lt=due) | Q(assignment__due_at=due, pk__lt=task.pk)
        return own.filter(before).exclude(state="passed").select_related("assignment").order_by("assignment__due_at", "pk")

    def rehearsal_before(self, task: Task) -> TaskQuerySet:
        """The dress rehearsal of a student's final, as long as it is not handed in."""
        own = self.filter(assignment__rehearses=task.assignment_id, enrolment=task.enrolment_id, withdrawn_at=None)
        return own.filter(state__in=("open", "in_work")).select_related("assignment")

    def _before_a_rehearsal(self) -> set[int]:
        """Numbers of finals among these tasks whose dress rehearsal is not handed in."""
        open_ = self.model.objects.filter(
            assignment__rehearses=OuterRef("assignment"), enrolment=OuterRef("enrolment"), withdrawn_at=None, state__in=("open", "in_work")
        )
        finals = self.filter(assignment__stage="final", state__in=("open", "in_work"), withdrawn_at=None)
        return set(finals.filter(Exists(open_)).values_list("pk", flat=True))

    def waiting_in_series(self) -> set[int]:
        """Numbers of those of these tasks that wait for one before them: in a series with an order, or a final for its rehearsal."""
        tasks = self.filter(assignment__series__in_order=True, withdrawn_at=None).select_related("assignment")
        waiting, held_up = self._before_a_rehearsal(), set()
        for task in tasks.order_by("assignment__due_at", "pk"):
            key = (task.enrolment_id, task.assignment.series_id)
            if key in held_up and task.state in ("open", "in_work"):
                waiting.add(task.pk)
            if task.state != "passed":
                held_up.add(key)
        return waiting

    def for_lists(self) -> TaskQuerySet:
        return self.select_related("assignment", "passage__revision__piece", "enrolment__student", "enrolment__group", "found_out").defer(
            "passage__revision__prepared", "passage__revision__reading"
        )


def _for_everybody_or(person: Person) -> Q:
    """What is for no group in particular, or for one in which this person or one of their wards plays."""
    groups = Group.objects.filter(enrolments__student__in=person.family())
    return Q(group=None) | Q(group__in=groups)


class WeekNoteQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> WeekNoteQuerySet:
        """A teacher's studio; students and guardians those to everybody and to their groups."""
        if not person.is_authenticated:
            return self.none()
        own = self.filter(studio=person.studio)
        if person.is_teacher:
            return own
        return own.filter(_for_everybody_or(person))


class SlotQuerySet(models.QuerySet[Any]):
    def visible_to(self, person: Person) -> SlotQuerySet:
        """A teacher's own; a family those that are free for one of theirs, and those that they chose."""
        if not person.is_authenticated:
            return self.none()
        if person.is_teacher:
            return self.filter(teacher=person)
        own = Q(enrolment__student__in=person.family())
        return self.filter(own | (Q(enrolment=None, teacher__studio=person.studio) & _for_everybody_or(person)))

    def to_come(self) -> SlotQuerySet:
        return self.filter(starts_at__gt=timezone.now()).select_related("teacher", "group", "enrolment__student")

    def meeting(self, teacher: Person, begin: datetime, end: datetime) -> SlotQuerySet:
        """A teacher's times that lie, in part or whole, between two moments."""
        length = ExpressionWrapper(F("minutes") * timedelta(minutes=1), output_field=models.DurationField())
        until = ExpressionWrapper(F("starts_at") + length, output_field=models.DateTimeField())
        return self.filter(teacher=teacher, starts_at__lt=end).annotate(until=until).filter(until__gt=begin)
