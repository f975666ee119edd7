"""The named writes of an answer. Each locks the answer's row first, so that two tabs, a draft in flight and a second press of “Send” follow
one another; what is sent is changed only by ``amend``, openly.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from datetime import timedelta

from django.core.files.base import File
from django.db import transaction
from django.utils import timezone

from didactor.assignments.checklists import OWN
from didactor.assignments.models import Task, TaskState
from didactor.assignments.services import ask_at_tempo, give_way_to, more_time, move_task, withdraw
from didactor.core.errors import PassageError
from didactor.core.formats.result import FindingResult
from didactor.core.judging.categories import TITLES
from didactor.core.words import _, worded
from didactor.library.said import is_film
from didactor.people.models import Person
from didactor.review.models import Decision, FormerAnswer, Mark, Origin, Review, Scale, Standing
from didactor.takes.models import Submission

#: What goes with a decision.
DECIDED = ("decision_tempo", "decision_bars", "decision_step", "decision_minutes", "grade")
#: What can be said of a row of the checklist; the last: that it could not be heard.
VERDICTS = ("good", "mend", "unheard")
#: A scale of marks has at most so many steps.
MOST_STEPS = 24
#: How much is played of a place that is pinned by its second.
HEARD_FROM_A_SECOND_S = 2.0
SENT = _("This answer is sent already and stays as it was. To change it, amend it.")
OVERTAKEN = _(
    "This answer was changed meanwhile, in another tab or by a colleague. What you wrote is below; send it again to put it in place."
)


class ReviewRefused(Exception):
    """What cannot be done with an answer now; the words say why."""


@dataclass(frozen=True, kw_only=True)
class Draft:
    """What the form of an answer holds. ``version``: which state of the answer it was written over; None for one that does not know."""

    text: str = ""
    decision: str = ""
    decision_tempo: float | None = None
    decision_bars: str = ""
    decision_step: str = ""
    decision_minutes: int | None = None
    grade: str = ""
    checklist: Mapping[str, str] = field(default_factory=dict)
    version: int | None = None


def open_review(*, submission: Submission, teacher: Person) -> Review:
    """The draft of an answer, with the findings as proposals. Opened again it is the same draft."""
    review: Review | None = getattr(submission, "review", None)
    if review is None or submission.take.heard_live:
        review = _opened(submission, teacher)
    return review


@transaction.atomic
def _opened(submission: Submission, teacher: Person) -> Review:
    review, made = Review.objects.select_for_update().get_or_create(submission=submission, defaults={"teacher": teacher})
    review.submission = submission
    # What was heard live may be recorded, and heard by the ear, when it is marked already.
    late = submission.take.heard_live and review.sent_at is None and not review.marks.filter(origin=Origin.HEARD).exists()
    if made or late:
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


def _locked_draft(review: Review) -> Review:
    """The answer as it stands, locked until the transaction ends. Raises ``ReviewRefused`` once sent."""
    review = Review.objects.select_for_update().get(pk=review.pk)
    if review.sent_at is not None:
        raise ReviewRefused(SENT)
    return review


@transaction.atomic
def decide_mark(*, mark: Mark, standing: str, text: str | None = None) -> Mark:
    """Keep or drop a mark, or put it back; ``text`` changes its words. Raises ``ReviewRefused`` once sent."""
    _locked_draft(mark.review)
    mark.standing = Standing(standing)
    if text is not None and text.strip():
        mark.text = text.strip()[:500]
    mark.save(update_fields=["standing", "text"])
    return mark


@transaction.atomic
def keep_all(*, review: Review) -> None:
    """Keep every proposal that is still open. Raises ``ReviewRefused`` once sent."""
    _locked_draft(review).marks.filter(standing=Standing.PROPOSED).update(standing=Standing.KEPT)


@transaction.atomic
def add_remark(
    *,
    review: Review,
    category: str,
    text: str,
    bar: str = "",
    beat: float | None = None,
    note_id: str = "",
    at_s: float | None = None,
    said: File[bytes] | None = None,
) -> Mark:
    """A remark of the teacher's own, pinned to a bar, beat, note or second; ``said``: what was said or filmed, opened before.

    Raises:
        ReviewRefused: without anything said or written, or once the answer is sent.
    """
    review = _locked_draft(review)
    if not text.strip() and said is None:
        raise ReviewRefused(worded("Write a few words first, or say them."))
    text = text.strip() or (worded("A remark, filmed.") if said is not None and is_film(str(said.name)) else worded("A remark, said."))
    hand = ""
    if note_id:
        at, hand = _place_of(review, note_id)
        beat = at if beat is None else beat
    return Mark.objects.create(
        review=review,
        origin=Origin.TEACHER,
        standing=Standing.KEPT,
        category=category,
        text=text[:500],
        said=said or "",
        bar=bar.strip()[:10],
        beat=beat,
        hand=hand,
        note_ids=[note_id] if note_id else [],
        start_s=at_s,
        end_s=None if at_s is None else at_s + HEARD_FROM_A_SECOND_S,
    )


def _place_of(review: Review, note_id: str) -> tuple[float | None, str]:
    """The beat of a note, in quarters, and the hand that plays it where there are two; nothing for a note that the take does not have."""
    analysis = review.submission.take.latest_analysis
    notes = (analysis.heard.notes if analysis else None) or ()
    note = next((n for n in notes if n.id == note_id), None)
    if note is None:
        return None, ""
    two = {n.staff for n in notes} == {1, 2}
    return note.beat, ("right" if note.staff == 1 else "left") if two else ""


def steps_of(teacher: Person) -> list[str]:
    """The marks a teacher gives, in order; none for most."""
    scale = Scale.objects.filter(teacher=teacher).first()
    return list(scale.steps) if scale else []


def set_scale(*, teacher: Person, steps: Sequence[str]) -> None:
    """Keep a teacher's scale; an empty one ends it. Marks that were given stay as they are. Raises ``ReviewRefused``."""
    steps = list(dict.fromkeys(step.strip() for step in steps if step.strip()))
    if len(steps) > MOST_STEPS or any(len(step) > 20 for step in steps):
        raise ReviewRefused(worded("A scale has at most {most_steps} marks of up to 20 characters.", most_steps=MOST_STEPS))
    Scale.objects.update_or_create(teacher=teacher, defaults={"steps": steps})


@transaction.atomic
def save_draft(*, review: Review, draft: Draft) -> Review:
    """Keep what is written and ticked so far.

    Raises:
        ReviewRefused: it is sent, or what was written over another state of it.
    """
    review = _locked_draft(review)
    if draft.version is not None and draft.version != review.version:
        raise ReviewRefused(OVERTAKEN)
    return _write(review, draft)


def _write(review: Review, draft: Draft) -> Review:
    review.checklist = _verdicts(review, draft)
    review.text = draft.text
    review.decision = draft.decision if draft.decision in Decision.values else ""
    if draft.grade and draft.grade not in (review.grade, *steps_of(review.teacher)):
        raise ReviewRefused(worded("This mark is not on your scale any more. Choose another."))
    for name in DECIDED:
        setattr(review, name, getattr(draft, name))
    review.version += 1
    review.save(update_fields=["text", "decision", *DECIDED, "checklist", "version"])
    return review


def _verdicts(review: Review, draft: Draft) -> dict[str, str]:
    """What was said of the checklist's rows; of those only that there are."""
    rows = {*TITLES, *(OWN + words for words in review.submission.take.task.assignment.own_rows), *review.checklist}
    return {row: verdict for row, verdict in draft.checklist.items() if row in rows and verdict in VERDICTS}


def _says_the_same(review: Review, draft: Draft) -> bool:
    kept = _verdicts(review, draft)
    return (review.text, review.decision, review.checklist) == (draft.text, draft.decision, kept) and all(
        getattr(review, name) == getattr(draft, name) for name in DECIDED
    )


@transaction.atomic
def send(*, review: Review, draft: Draft | None = None) -> Review:
    """Send the answer, as it stands or as ``draft`` has it: kept marks, words and decision reach the student; the task moves on.

    The same sent twice is sent once.

    Raises:
        ReviewRefused: without a decision; when something else was sent before, so that nobody believes this was.
    """
    # The task first, as every write that changes both: nobody waits for the other in a circle.
    task = _locked_task(review)
    review = _locked_answer(review, task)
    if review.sent_at is not None:
        if draft is None or _says_the_same(review, draft):
            return review
        raise ReviewRefused(SENT)
    if draft is not None:
        review = _write(review, draft)
    _check_decision(review)
    review.marks.filter(standing=Standing.PROPOSED).update(standing=Standing.DROPPED)
    review.sent_at = timezone.now()
    review.save(update_fields=["sent_at"])
    review.submission.answered_at = review.sent_at
    review.submission.save(update_fields=["answered_at"])
    _move_on(task, review)
    return review


@transaction.atomic
def amend(*, review: Review, teacher: Person, draft: Draft) -> Review:
    """Change an answer that was sent: the student sees that it was, and what it said before is kept.

    Raises:
        ReviewRefused: it is not sent yet; no decision; somebody else amended it meanwhile.
    """
    task = _locked_task(review)
    review = _locked_answer(review, task)
    if review.sent_at is None:
        raise ReviewRefused(worded("This answer is not sent yet: change it, then send it."))
    if _says_the_same(review, draft):
        return review
    if draft.version is not None and draft.version != review.version:
        raise ReviewRefused(OVERTAKEN)
    former = FormerAnswer(review=review, replaced_by=teacher, said=asdict(_as_draft(review)), sent_at=review.amended_at or review.sent_at)
    review = _write(review, draft)
    _check_decision(review)
    former.save()
    review.amended_at = timezone.now()
    review.save(update_fields=["amended_at"])
    newest = Submission.objects.filter(take__task=task).order_by("-submitted_at").first()
    if newest is not None and newest.pk == review.submission_id and task.state in (TaskState.ANSWERED, TaskState.PASSED):
        _move_on(task, review)
    return review


def _as_draft(review: Review) -> Draft:
    return Draft(
        text=review.text,
        decision=review.decision,
        **{name: getattr(review, name) for name in DECIDED},
        checklist=review.checklist,
        version=review.version,
    )


def _locked_answer(review: Review, task: Task) -> Review:
    """The answer as it stands, sent or not, with its task at hand, locked until the transaction ends."""
    locked = Review.objects.select_for_update(of=("self", "submission"))
    found = locked.select_related("submission__take").defer("submission__take__peaks").get(pk=review.pk)
    found.submission.take.task = task
    return found


def _locked_task(review: Review) -> Task:
    return Task.objects.select_for_update(of=("self",)).select_related("assignment", "enrolment").get(takes__submission__review=review)


def _check_decision(review: Review) -> None:
    if not review.decision:
        raise ReviewRefused(worded("Choose what happens next: passed, once more, slower …"))
    if review.decision == Decision.SLOWER and review.decision_tempo is None:
        raise ReviewRefused(worded("Say at which tempo: write it beside “at tempo”."))
    if review.decision == Decision.SHORTER and not review.decision_bars:
        raise ReviewRefused(worded("Say which bars: write them beside “bars”, like 5-8."))
    if review.decision == Decision.STEP and not review.decision_step:
        raise ReviewRefused(worded("Say which step comes first."))


#: Days more: to stay on it, and at least until the next take.
STAY_DAYS, ONCE_MORE_DAYS = 7, 3


def _move_on(task: Task, review: Review) -> None:
    """What the decision means for the task: its state, what is asked from now on and until when, and what is given to work on first."""
    faster = review.decision == Decision.NEXT and review.decision_tempo is not None and review.decision_tempo > task.asked_tempo
    passed = review.decision in (Decision.PASSED, Decision.NEXT) and not faster
    move_task(task, TaskState.PASSED if passed else TaskState.ANSWERED)
    try:
        _give_what_comes_first(task, review)
        if passed:
            return
        if review.decision_tempo is not None and review.decision not in WAYS:
            ask_at_tempo(task=task, tempo=review.decision_tempo)
        if review.decision == Decision.STAY or review.decision in WAYS:
            more_time(task=task, days=STAY_DAYS)
        elif task.due_at < timezone.now() + timedelta(days=ONCE_MORE_DAYS):
            more_time(task=task, days=ONCE_MORE_DAYS)
    except PassageError as error:
        raise ReviewRefused(error.message) from error


#: Decisions that give something to work on first.
WAYS = (Decision.SHORTER, Decision.STEP)


def _give_what_comes_first(task: Task, review: Review) -> None:
    """The way that was decided on; one of an earlier decision is taken back."""
    former = review.way
    if former is not None:
        withdraw(former.tasks.all())
    review.way = None
    if review.decision in WAYS:
        review.way = give_way_to(
            task=task,
            teacher=review.teacher,
            bars=review.decision_bars,
            step=review.decision_step if review.decision == Decision.STEP else "",
            tempo=review.decision_tempo,
            minutes=review.decision_minutes,
        )
    if review.way is not former:
        review.save(update_fields=["way"])
