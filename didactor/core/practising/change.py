"""Changes from one thing to the next: how long each took, whether it was right, and the table of them all."""

from __future__ import annotations

import statistics
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

#: A change is late from so much more than its beat on, in seconds and in beats.
LATE_S, LATE_BEATS = 0.12, 0.25
#: A place in the table says something from so many changes on.
ENOUGH = 3


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """From ``before`` to ``after``. ``late_s``: how much longer than its beats it took (below 0: shorter); None where that is not known.
    ``right``: whether what was wanted sounded; None where it could not be told.
    """

    before: str
    after: str
    late_s: float | None
    right: bool | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Cell:
    """All changes of one kind: the median of how late they came (None below ``ENOUGH``), how many, and how many were wrong."""

    before: str
    after: str
    late_s: float | None
    count: int
    wrong: int


def table(changes: Iterable[Change]) -> list[Cell]:
    """From-to, the slowest first; those of which too little is known come last."""
    kinds: dict[tuple[str, str], list[Change]] = {}
    for change in changes:
        kinds.setdefault((change.before, change.after), []).append(change)
    cells = []
    for (before, after), own in kinds.items():
        late = [c.late_s for c in own if c.late_s is not None]
        median = statistics.median(late) if len(late) >= ENOUGH else None
        cells.append(Cell(before=before, after=after, late_s=median, count=len(own), wrong=sum(c.right is False for c in own)))
    return sorted(cells, key=lambda c: (c.late_s is None, -(c.late_s or 0.0), -c.wrong, c.before, c.after))


def per_minute(onsets_s: Sequence[float | None], right: Sequence[bool | None]) -> float | None:
    """Right changes a minute, at the pace at which they were played; None where fewer than three sounded."""
    known = [s for s in onsets_s if s is not None]
    if len(known) < 3 or known[-1] <= known[0]:
        return None
    return 60.0 * sum(r is True for r in right[1:]) / (known[-1] - known[0])


def is_late(late_s: float | None, beat_s: float) -> bool:
    """Whether a change came late enough to be told."""
    return late_s is not None and late_s > max(LATE_S, LATE_BEATS * beat_s)
