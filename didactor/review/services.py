from __future__ import annotations

from django.db import transaction
from django.utils import timezone

from didactor.assignments.models import TaskState
from didactor.assignments.services import move_task
from didactor.core.formats.result import FindingResult
from didactor.core.judging.categories import TITLES
from didactor.people.models import Person
from didactor.review.models import Decision, Mark, Origin, Review, Standing
from didactor.takes.models import Submission

#: How much is played of a place that is pinned by its second.
HEARD_FROM_A_SECOND_S = 2.0


class ReviewRefused(Exception):
    """What cannot be done with an answer now; the words say why."""


@transaction.atomic
def open_review(*, submission: Submission, teacher: Person) -> Review:
    """The draft of an answer, with the findings as proposals. Opened again it is the same draft."""
    review, made = Review.objects.select_for_update().get_or_create(submission=submission, defaults={"teacher": teacher})
    if made:
        analysis = submission.take.latest_analysis
        findings = (analysis.heard.findings if analysis else None) or ()
        Mark.objects.bulk_create(_proposal(review, finding) for finding in findings)
    return review


def _proposal(review: Review, finding: FindingResult) -> Mark:
    return Mark(
        review=review,
        origin=Origin.HEARD,
        standing=Standing.PROPOSED,
        category=finding.category,
        text=finding.text,
        heard_text=finding.text,
        code=finding.code,
        bar=finding.bar or "",
        beat=finding.beat,
        note_ids=list(finding.note_ids),
        start_s=finding.start_s,
        end_s=finding.end_s,
    )


def _check_draft(review: Review) -> None:
    if review.sent_at is not None:
        raise ReviewRefused("This answer is sent already and stays as it was.")


def decide_mark(*, mark: Mark, standing: str, text: str | None = None) -> Mark:
    """Keep or drop a mark, or put it back; ``text`` changes its words. Raises ``ReviewRefused`` once sent."""
    _check_draft(mark.review)
    mark.standing = Standing(standing)
    if text is not None and text.strip():
        mark.text = text.strip()[:500]
    mark.save(update_fields=["standing", "text"])
    return mark


def keep_all(*, review: Review) -> None:
    """Keep every proposal that is still open. Raises ``ReviewRefused`` once sent."""
    _check_draft(review)
    review.marks.filter(standing=Standing.PROPOSED).update(standing=Standing.KEPT)


def add_remark(
    *, review: Review, category: str, text: str, bar: str = "", beat: float | None = None, note_id: str = "", at_s: float | None = None
) -> Mark:
    """A remark of the teacher's own, pinned to a bar, beat, note or second. Raises ``ReviewRefused`` without words or once sent."""
    _check_draft(review)
    if not text.strip():
        raise ReviewRefused("Write a few words first.")
    return Mark.objects.create(
        review=review,
        origin=Origin.TEACHER,
        standing=Standing.KEPT,
        category=category,
        text=text.strip()[:500],
        bar=bar.strip()[:10],
        beat=beat,
        note_ids=[note_id] if note_id else [],
        start_s=at_s,
        end_s=None if at_s is None else at_s + HEARD_FROM_A_SECOND_S,
    )


def save_draft(
    *, review: Review, text: str, decision: str, decision_tempo: float | None, checklist: dict[str, str] | None = None
) -> Review:
    """Keep what is written and ticked so far. Raises ``ReviewRefused`` once sent."""
    _check_draft(review)
    review.checklist = {slug: v for slug, v in (checklist or {}).items() if slug in TITLES and v in ("good", "mend")}
    review.text, review.decision, review.decision_tempo = text, decision if decision in Decision.values else "", decision_tempo
    review.save(update_fields=["text", "decision", "decision_tempo", "checklist"])
    return review


@transaction.atomic
def send(*, review: Review) -> Review:
    """Send the answer: kept marks, words and decision reach the student; the task moves on. Sent twice is sent once.

    Raises ``ReviewRefused`` without a decision.
    """
    review = Review.objects.select_for_update().select_related("submission__take__task").get(pk=review.pk)
    if review.sent_at is not None:
        return review
    if not review.decision:
        raise ReviewRefused("Choose what happens next: passed, once more, slower …")
    review.marks.filter(standing=Standing.PROPOSED).update(standing=Standing.DROPPED)
    review.sent_at = timezone.now()
    review.save(update_fields=["sent_at"])
    passed = review.decision in (Decision.PASSED, Decision.NEXT)
    review.submission.answered_at = review.sent_at
    review.submission.save(update_fields=["answered_at"])
    move_task(review.submission.take.task, TaskState.PASSED if passed else TaskState.ANSWERED)
    return review
