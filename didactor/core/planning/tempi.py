"""Tempi to practise at, and the one to begin with. All in beats a minute of whatever unit the target is counted in."""

from __future__ import annotations

from collections.abc import Sequence

#: The slowest and the quickest that models are played at, and how far they lie apart, as shares of the target.
SLOWEST, FASTEST, APART = 0.25, 1.3, 0.05


def rungs(target: float, ladder: Sequence[float] = ()) -> list[int]:
    """Whole tempi from a quarter of the target to somewhat above it, the target and the ladder's own among them, ascending.

    Args:
        target: beats per minute, positive.
        ladder: tempi on the way to it; those outside the range are left out.
    """
    low, high = max(1, round(SLOWEST * target)), round(FASTEST * target)
    count = round((FASTEST - SLOWEST) / APART)
    even = {round(target * (SLOWEST + APART * k)) for k in range(count + 1)}
    return sorted({tempo for tempo in (*even, round(target), *(round(t) for t in ladder)) if low <= tempo <= high})


def to_begin_with(target: float, ladder: Sequence[float], clean: Sequence[float]) -> int:
    """What is proposed for the next take: the tempo of the newest clean one, else the ladder's first rung, else the target.

    Args:
        clean: tempi of the takes without a remark, the oldest first.
    """
    wanted = clean[-1] if clean else ladder[0] if ladder else target
    return min(rungs(target, ladder), key=lambda tempo: (abs(tempo - wanted), tempo))
