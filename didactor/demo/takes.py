"""Takes of the demo: rendered by the simulated player, heard by the real ear, answered in the teacher's words."""

from __future__ import annotations

import io
import zlib
from datetime import timedelta

import numpy as np
from django.utils import timezone

from didactor.assignments.models import Task
from didactor.core.instruments import BY_SLUG
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.take import simulate, wav_bytes
from didactor.demo.scenario import DemoTake
from didactor.library.notation import expectation_of
from didactor.people.models import Person
from didactor.review.models import Review
from didactor.review.services import Draft, decide_mark, keep_all, open_review, save_draft, send
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Submission, Take
from didactor.takes.services import OwnMark, receive_take, review_own_take, submit_take

#: How the simulated player does what is asked.
MANNER = {"clap": "clap", "chords": "strum"}


def record(teacher: Person, task: Task, demo: DemoTake, days_ago: float = 0.0) -> Take:
    """One take, heard, marked by its student, handed in and answered as the scenario has it; ``days_ago`` puts all of it back in time."""
    assignment = task.assignment
    take = receive_take(student=task.student, task=task, source=io.BytesIO(play(task, demo)), filename="take.wav")
    analyse_take(take_id=take.pk)
    take.refresh_from_db()
    if demo.work_on:
        marks = [OwnMark(category=c, verdict="mend" if c in demo.mend else "good") for c, _ in assignment.checklist_entries[:6]]
        marks += [OwnMark(category=c, verdict="mend", bar=bar, text=text) for bar, c, text in demo.pins]
        review_own_take(take=take, marks=marks, work_on=demo.work_on)
    if not demo.submitted:
        return take
    submission = submit_take(take=take)
    if demo.draft or demo.answer:
        review = open_review(submission=submission, teacher=teacher)
    if demo.draft:
        first = review.marks.first()
        if first:
            decide_mark(mark=first, standing="kept")
        save_draft(review=review, draft=Draft(text="You heard it yourself: the tempo rises.", decision="", decision_tempo=None))
    if demo.answer:
        keep_all(review=review)
        checklist = {c: "mend" if c in demo.mend else "good" for c, _ in assignment.checklist_entries[:6]}
        save_draft(review=review, draft=Draft(text=demo.answer[1], decision=demo.answer[0], decision_tempo=None, checklist=checklist))
        send(review=review)
    if days_ago:
        _put_back(take, days_ago)
    return take


def _put_back(take: Take, days: float) -> None:
    """As if it had been played, and answered the day after, so many days ago."""
    then = timezone.now() - timedelta(days=days)
    Take.objects.filter(pk=take.pk).update(created_at=then)
    Submission.objects.filter(take=take).update(submitted_at=then + timedelta(hours=1))
    answered = then + timedelta(days=1)
    Submission.objects.filter(take=take, answered_at__isnull=False).update(answered_at=answered)
    Review.objects.filter(submission__take=take, sent_at__isnull=False).update(sent_at=answered)


def play(task: Task, demo: DemoTake) -> bytes:
    """The sound of a take by the simulated player."""
    passage = task.passage
    expectation = expectation_of(revision_id=passage.revision_id, part=passage.part, bars=passage.bars)
    instrument = BY_SLUG[task.enrolment.instrument]
    rng = np.random.default_rng(zlib.crc32(task.student.name.encode()) + demo.seed)
    style = Style(scatter_ms=9.0, wander_percent=0.9, tuning_cents=float(rng.uniform(-6, 6)))
    take = simulate(
        expectation,
        instrument,
        task.assignment.tempo_qpm,
        faults=demo.faults,
        style=style,
        room=demo.room,
        seed=demo.seed,
        manner=MANNER.get(task.assignment.step, "play"),
    )
    return wav_bytes(take.samples)
