"""One answer to several takes: most of a class may have passed, and a word to all of them is enough."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field

from didactor.core.words import worded
from didactor.people.models import Person
from didactor.review.models import Decision
from didactor.review.querysets import for_lists
from didactor.review.services import Draft, ReviewRefused, keep_all, open_review, send
from didactor.takes.models import Submission

#: What can be decided without looking at each take by itself: nothing else is needed for it.
DECISIONS = (Decision.PASSED, Decision.ONCE_MORE, Decision.STAY, Decision.NEXT)


@dataclass(frozen=True, kw_only=True)
class AtOnce:
    """``left``: students whose take has an answer begun or sent already; nothing of it was touched."""

    sent: list[Person] = field(default_factory=list)
    left: list[Person] = field(default_factory=list)


def answer_at_once(*, teacher: Person, chosen: Collection[int], decision: str, text: str, keep: bool) -> AtOnce:
    """Send the same answer to each of some submissions that wait, each by itself.

    Args:
        chosen: numbers of submissions; those that are not this teacher's, or do not wait any more, are left out.
        keep: whether what was heard in a take goes with its answer.

    Raises:
        ReviewRefused: nothing chosen, or a decision that has to be made take by take.
    """
    if decision not in DECISIONS:
        raise ReviewRefused(
            worded("Choose what happens next for all of them: ") + ", ".join(str(one.label).lower() for one in DECISIONS) + "."
        )
    waiting = list(for_lists(Submission.objects.awaiting_review_by(teacher).in_desk_order().filter(pk__in=chosen)))
    if not waiting:
        raise ReviewRefused(worded("Tick the takes that it is for."))
    done = AtOnce()
    for submission in waiting:
        review = open_review(submission=submission, teacher=teacher)
        student = submission.take.task.enrolment.student
        # Words, marks or a decision of its own are not written over.
        if review.version or review.marks.exclude(standing="proposed").exists():
            done.left.append(student)
            continue
        try:
            if keep:
                keep_all(review=review)
            send(review=review, draft=Draft(text=text.strip(), decision=decision, decision_tempo=None, version=review.version))
            done.sent.append(student)
        except ReviewRefused:
            done.left.append(student)
    return done
