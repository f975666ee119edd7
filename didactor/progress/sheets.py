"""What stands on the sheets for guardians and schools: one answer, and one student's term."""

from __future__ import annotations

from datetime import date, datetime, time
from typing import Any

from django.utils import timezone

from didactor.assignments.models import Task, TaskState
from didactor.people.models import Person
from didactor.progress.over_weeks import over_weeks
from didactor.progress.paper import drawn_on_paper
from didactor.progress.recurring import what_comes_back
from didactor.review.models import Decision, Review, Standing
from didactor.takes.listening import heard_drawings, passage_of
from didactor.takes.permissions import Sight
from didactor.takes.strips import played_tempo

#: Words of the term: the newest answers.
WORDS = 8


def answer_sheet(review: Review, sight: Sight) -> dict[str, Any]:
    """One answer that was sent; the score with what was heard as far as the reader sees it on the page."""
    take = review.submission.take
    analysis = take.latest_analysis if sight.result is not None else None
    drawings = heard_drawings(passage_of(take), analysis)
    return {
        "review": review,
        "take": take,
        "assignment": take.task.assignment,
        "student": take.task.enrolment.student,
        "own": getattr(take, "self_review", None),
        "played": played_tempo(analysis, take.basis["beat_unit"]) if sight.figures else "",
        "drawing": drawn_on_paper(drawings["beside"]) if drawings.get("beside") else "",
        "marks": review.marks.filter(standing=Standing.KEPT),
    }


def term_sheet(person: Person, from_day: date, to_day: date) -> dict[str, Any]:
    """One student from one day to another, both included: what was passed, what is at work, the pictures, the words."""
    begin, end = (timezone.make_aware(datetime.combine(day, at)) for day, at in ((from_day, time.min), (to_day, time.max)))
    sent = (
        Review.objects.filter(submission__take__task__enrolment__student=person, sent_at__range=(begin, end))
        .select_related("submission__take__task__assignment")
        .order_by("sent_at")
        .defer("submission__take__peaks")
    )
    weeks = over_weeks(person, from_day, to_day)
    given = Task.objects.filter(enrolment__student=person, withdrawn_at=None).given().exclude(state=TaskState.PASSED)
    return {
        "person": person,
        "from_day": from_day,
        "to_day": to_day,
        "passed": [review for review in sent if review.decision in (Decision.PASSED, Decision.NEXT)],
        "at_work": given.filter(assignment__created_at__lte=end).select_related("assignment").order_by("assignment__due_at"),
        "tempi": drawn_on_paper(weeks.tempi) if weeks.tempi else "",
        "clean": weeks.clean,
        "same": weeks.same,
        "comes_back": what_comes_back(person),
        "minutes": drawn_on_paper(weeks.minutes_drawn) if weeks.minutes_drawn else "",
        "words": [review for review in sent if review.text][-WORDS:],
    }
