"""Heard moments laid over a passage with repeats: a repeat that is not taken is heard as such."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from didactor.core.hearing.alignment import TEMPO_GUESSES, Alignment, Material, align
from didactor.core.hearing.cuts import cut_at_bars

#: With this share of all moments matched, every repeat was played.
LEAST_BOTH_SHARE = 0.9
#: A repeat not taken explains a take as well as a mixture of passes that costs this much less.
AS_WELL = 1.0


def align_repeats(material: Material, again: np.ndarray, seconds_per_quarter: float, guesses: Sequence[float] = TEMPO_GUESSES) -> Alignment:
    """As ``align``, but a repeat that is not taken is heard as such.

    Which of two equal passes was left out cannot be told by the notes: the second one it is, whole, if that explains the take as
    well as any mixture of both, and with fewer jumps. ``again``: shape (n,), whether a moment belongs to a second or later pass.
    """
    best = cut_at_bars(material, align(material, seconds_per_quarter, guesses))
    if not again.any() or again.all() or len(best.matches) >= LEAST_BOTH_SHARE * len(again):
        return best
    once = np.flatnonzero(~again)
    # Time closes up over what is left out.
    gaps = np.concatenate(([0.0], np.diff(material.quarters)))
    quarters = np.cumsum(np.where(_follows(again), gaps, 0.0))[once]
    shorter = replace(
        material,
        quarters=quarters,
        missed=material.missed[once],
        untimed=material.untimed[once],
        bar_start=material.bar_start[once],
        pair=material.pair[:, once],
    )
    found = cut_at_bars(shorter, align(shorter, seconds_per_quarter, guesses))
    cost = found.cost_per_note * len(once) / len(again)
    jumps, jumps_once = (sum(m.jump for m in a.matches) for a in (best, found))
    if cost > best.cost_per_note + AS_WELL / len(again) or (jumps_once and jumps_once >= jumps):
        return best
    matches = tuple(
        replace(m, note=int(once[m.note]), jump=m.jump or (k > 0 and bool(again[once[found.matches[k - 1].note] : once[m.note]].any())))
        for k, m in enumerate(found.matches)
    )
    return Alignment(matches=matches, cost_per_note=cost, seconds_per_quarter=found.seconds_per_quarter)


def _follows(again: np.ndarray) -> np.ndarray:
    """Whether the time before a moment counts once the passes of ``again`` are closed up: not inside them, nor right after."""
    before = np.concatenate(([False], again[:-1]))
    # The first moment after a stretch follows the stretch's first one as it would have followed what came before.
    starts = again & ~before
    return (~again & ~before) | starts
