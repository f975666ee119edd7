"""A minute to begin with: the slowest changes of one player, across all pieces."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from didactor.core.practising.change import Change, table

#: What is worth warming up, and how many of them fill a minute.
MOST, LATE_FROM_S = 4, 0.05


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
    """A drill that was done before and what came of it; ``key`` is whatever finds it again."""

    key: str
    changes: tuple[Change, ...]


def warm_up(known: Sequence[Known], most: int = MOST) -> list[str]:
    """Keys of the drills whose changes are slowest or most often wrong, the worst first; none where nothing is slow."""
    worth = []
    for drill in known:
        cells = table(drill.changes)
        late = max((c.late_s for c in cells if c.late_s is not None), default=0.0)
        count = sum(c.count for c in cells)
        wrong = sum(c.wrong for c in cells) / count if count else 0.0
        if late >= LATE_FROM_S or wrong > 0:
            worth.append((late + wrong, drill.key))
    return [key for _, key in sorted(worth, key=lambda pair: (-pair[0], pair[1]))[:most]]
