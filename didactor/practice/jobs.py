from __future__ import annotations

from procrastinate.contrib.django import app

from didactor.practice import hearing
from didactor.practice.models import Attempt, OutcomeChoices

#: Somebody practises and waits for the count: before takes and models.
FIRST = 20


@app.task(queue="takes", priority=FIRST, retry=2)
def hear_attempt(attempt_id: str) -> None:
    """Hear an attempt to which nobody could listen while it was played. May run twice."""
    attempt = (
        Attempt.objects.select_related("task__assignment", "task__enrolment__student", "task__passage", "remedy", "drill")
        .filter(pk=attempt_id)
        .first()
    )
    if attempt is None:
        return
    if attempt.outcome == OutcomeChoices.UNHEARD:
        hearing.hear_whole(attempt)
    hearing.keep_sound(attempt)


@app.task(queue="default", retry=2)
def keep_sound(attempt_id: str) -> None:
    """A small copy of an attempt's sound is made, and its samples go. May run twice."""
    attempt = Attempt.objects.filter(pk=attempt_id).first()
    if attempt is not None:
        hearing.keep_sound(attempt)


@app.periodic(cron="41 3 * * *")
@app.task(queue="upkeep", queueing_lock="discard_attempts", pass_context=False)
def discard_attempts(timestamp: int) -> None:
    """Every night: sounds of attempts that are older than three weeks go, and attempts that were left in the middle."""
    hearing.discard_old_sounds()
    hearing.forget_left_overnight()
