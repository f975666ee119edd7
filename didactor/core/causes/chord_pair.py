from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from itertools import pairwise

from didactor.core.causes.case import SURE, Case
from didactor.core.causes.registry import Cause, cause
from didactor.core.hearing.hearing import Status
from didactor.core.words import worded

#: The same change has to fail so often, and in this share of its times.
FEWEST, LEAST_SHARE = 2, 0.5


@cause("chord_pair")
def chord_pair(case: Case) -> Iterator[Cause]:
    """One change of chords fails again and again, others do not."""
    chords = list(case.result.chords or ())
    changes = [(a, b) for a, b in pairwise(chords) if a.written != b.written]
    times = Counter((a.written, b.written) for a, b in changes)
    failed = Counter((a.written, b.written) for a, b in changes if b.status is Status.WRONG_PITCH and b.confidence >= SURE)
    for (before, after), count in failed.items():
        others, of = sum(failed.values()) - count, sum(times.values()) - times[before, after]
        if count < FEWEST or count < LEAST_SHARE * times[before, after] or (of and others / of >= count / times[before, after]):
            continue
        places = [b for a, b in changes if (a.written, b.written) == (before, after) and b.status is Status.WRONG_PITCH]
        yield Cause(
            code="chord_pair",
            title=worded("{before} to {after}", before=before, after=after),
            category="hands",
            says=worded(
                "{before} to {after} failed {count} of {times} times. Change between these two alone.",
                before=before,
                after=after,
                count=count,
                times=times[before, after],
            ),
            confidence=0.85,
            note_ids=tuple(f"{b.bar} {b.pass_} {b.beat:g}" for b in places),
            bar=places[0].bar,
        )
