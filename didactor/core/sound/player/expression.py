"""How an expressive player bends time and touch. Nothing of it is a fault.

Sizes follow a fine pianist's measured performance (beat lengths vary by 12 %; the bar at a phrase's end falls to 63-90 % of the tempo
and the next is back at once; from beat to beat 0.90-1.11; a sixteenth lasts 0.70-1.40 of a quarter of its own beat) and what is known
of phrase arches (Todd 1992), melody lead (Goebl 2001) and detached touch. There are two kinds of players, so that an ear fitted on
one can be held against the other:

- ``arches``: every phrase begins slowly, moves on and slows down, its last beats broaden; first beats are leaned on;
- ``rubato``: the tempo drifts freely over a bar or two, phrases breathe before they begin, and some passages press on.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from didactor.core.arrays import FloatArray
from didactor.core.score.expected import Expectation

#: Cells in which time is bent, in quarters.
CELL_QUARTERS = 0.25
KINDS = ("arches", "rubato")


@dataclass(frozen=True, slots=True, kw_only=True)
class Expression:
    """One player.

    Args:
        kind: one of ``KINDS``.
        depth_percent: how far the tempo moves within a phrase.
        closing_share: tempo of the last beats of a phrase, as a share of what it was.
        stress_percent: how much longer a first beat is.
        shaping: how uneven the parts of a beat are (exponent's standard deviation).
        lead_ms: how much the upper voice comes before the lower ones.
        touch: sounding share of notes that are not slurred.
        pedal: what is struck rings until the next bar.
        phrase_bars: bars of a phrase.
    """

    kind: str
    depth_percent: float
    closing_share: float
    stress_percent: float
    shaping: float
    lead_ms: float
    touch: float
    pedal: bool
    phrase_bars: int


def drawn(kind: str, rng: np.random.Generator) -> Expression:
    """A player of one kind."""
    return Expression(
        kind=kind,
        depth_percent=float(rng.uniform(4, 11)),
        closing_share=float(rng.uniform(0.63, 0.9)),
        stress_percent=float(rng.uniform(0, 4)),
        shaping=float(rng.uniform(0.02, 0.1)),
        lead_ms=float(rng.uniform(5, 25)),
        touch=float(rng.choice([0.6, 0.75, 0.9, 1.0])),
        pedal=bool(rng.random() < 0.5),
        phrase_bars=int(rng.choice([2, 4, 4])),
    )


def bent(expectation: Expectation, expression: Expression, cells: int, rng: np.random.Generator) -> FloatArray:
    """How much longer than even each cell of ``CELL_QUARTERS`` lasts, shape (cells,); their mean over the passage is 1."""
    middles = np.asarray((np.arange(cells) + 0.5) * CELL_QUARTERS, dtype=np.float64)
    ends = _phrase_ends(expectation, expression.phrase_bars)
    draw = _arches if expression.kind == "arches" else _rubato
    factors = draw(middles, ends, expression, rng)
    for bar in expectation.bars:
        first = (middles > bar.start_quarters) & (middles < bar.start_quarters + bar.beat_quarters)
        factors[first] *= 1 + expression.stress_percent / 100
        for beat in np.arange(bar.start_quarters, bar.start_quarters + bar.length_quarters - 1e-6, bar.beat_quarters):
            inside = np.flatnonzero((middles > beat) & (middles < beat + bar.beat_quarters))
            if len(inside) > 1:
                edges = np.linspace(0, 1, len(inside) + 1) ** np.exp(rng.normal(0, expression.shaping))
                factors[inside] *= np.diff(edges) * len(inside)
    used = middles < expectation.length_quarters
    return np.asarray(factors / factors[used].mean())


def _phrase_ends(expectation: Expectation, phrase_bars: int) -> list[tuple[float, float]]:
    """(begin, end) of every phrase, in quarters; an anacrusis belongs to the first."""
    bars = expectation.bars
    first = 1 if bars and bars[0].number == "0" else 0
    found = []
    for at in range(first, len(bars), phrase_bars):
        last = bars[min(at + phrase_bars, len(bars)) - 1]
        begin = bars[0].start_quarters if at == first else bars[at].start_quarters
        found.append((begin, last.start_quarters + last.length_quarters))
    return found


def _arches(middles: FloatArray, phrases: list[tuple[float, float]], expression: Expression, rng: np.random.Generator) -> FloatArray:
    factors = np.ones(len(middles))
    for begin, end in phrases:
        inside = (middles >= begin) & (middles < end)
        along = (middles[inside] - begin) / max(end - begin, 1e-6)
        factors[inside] *= 1 + expression.depth_percent / 100 * ((2 * along - 0.9) ** 2 - 0.35)
        # The phrase broadens into its end; the next one is back at once.
        closing = float(rng.choice([1.0, 2.0, 3.0]))
        late = inside & (middles >= end - closing)
        share = 1 - (1 - expression.closing_share) * float(rng.uniform(0.4, 1.0))
        ramp = np.clip((middles[late] - (end - closing)) / closing, 0, 1)
        factors[late] /= 1 - (1 - share) * ramp
    return factors


def _rubato(middles: FloatArray, phrases: list[tuple[float, float]], expression: Expression, rng: np.random.Generator) -> FloatArray:
    width = float(rng.uniform(3.0, 7.0))
    knots = np.arange(-width, middles[-1] + 2 * width, width)
    drift = np.interp(middles, knots, rng.normal(0, expression.depth_percent / 100, len(knots)))
    factors = np.exp(drift)
    for begin, end in phrases:
        if rng.random() < 0.4:
            inside = (middles >= begin) & (middles < end)
            factors[inside] *= np.exp(-0.08 * (middles[inside] - begin) / max(end - begin, 1e-6))
        # A breath before what comes: the last beat alone is stretched.
        last = (middles >= end - 1.0) & (middles < end)
        factors[last] /= 1 - (1 - expression.closing_share) * float(rng.uniform(0.5, 1.0))
    return np.asarray(factors)
