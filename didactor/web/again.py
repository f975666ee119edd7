"""When a job of the queue is tried again."""

from __future__ import annotations

from django.db import DatabaseError
from procrastinate import BaseRetryStrategy, RetryDecision
from procrastinate.jobs import Job

from didactor.core.errors import BusyError
from didactor.web.store import AWAY

#: What passes by itself is waited for, however long it lasts: a database or a store that is away, a machine that is busy.
PASSING = (DatabaseError, BusyError, *AWAY)
#: What does not is tried so often again.
MOST_TRIES = 4
#: Seconds before the first time; twice as many before each further one, up to the last figure.
FIRST_S, LONGEST_S = 5, 300


class Again(BaseRetryStrategy):
    """Again after ``FIRST_S``, and then less and less often."""

    def __init__(self, most_tries: int = MOST_TRIES) -> None:
        self._most_tries = most_tries

    def get_retry_decision(self, *, exception: BaseException, job: Job) -> RetryDecision | None:
        if job.attempts >= self._most_tries and not isinstance(exception, PASSING):
            return None
        return RetryDecision(retry_in={"seconds": min(LONGEST_S, FIRST_S * 2 ** min(job.attempts, 10))})


AGAIN = Again()
#: Only what passes by itself: the job says of everything else what became of it.
WHEN_IT_PASSES = Again(most_tries=0)
