"""Two takes of one passage side by side: which was steadier, better in tune, nearer the notes, by figures that both of them have."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from didactor.core.formats.result import Result
from didactor.core.hearing.hearing import Status
from didactor.core.words import _

#: Fewer values than this tell nothing of a take.
FEWEST = 8


@dataclass(frozen=True, slots=True, kw_only=True)
class Question:
    """``figure``: of a take, less is better; None where it cannot be known. Below ``alike`` (a difference) nobody would hear one."""

    slug: str
    asks: str
    unit: str
    alike: float
    figure: Callable[[Result], float | None]


@dataclass(frozen=True, slots=True, kw_only=True)
class Told:
    """``better``: 0 for the first take, 1 for the second, None where they are alike; ``values`` are the figures."""

    question: Question
    better: int | None
    values: tuple[float, float]


def _steadiness_ms(result: Result) -> float | None:
    """Usual distance of a note from the pulse."""
    if result.targets.stage_rules.placement is None:
        return None
    return _usual([abs(n.early_late_ms) for n in result.notes or () if n.early_late_ms is not None])


def _intonation_cents(result: Result) -> float | None:
    if not result.by_pitch or not result.instrument.bends:
        return None
    return _usual([abs(n.cents) for n in result.notes or () if n.cents is not None])


def _wrong_notes(result: Result) -> float | None:
    judged = [n for n in result.notes or () if n.status != Status.UNCERTAIN]
    if len(judged) < FEWEST or not result.by_pitch:
        return None
    return float(sum(n.status != Status.CORRECT for n in judged) + len(result.extra or ()))


def _usual(values: list[float]) -> float | None:
    return float(np.mean(values)) if len(values) >= FEWEST else None


QUESTIONS = (
    Question(slug="steadier", asks=_("Which was steadier?"), unit=_("ms from the pulse"), alike=4.0, figure=_steadiness_ms),
    Question(slug="in_tune", asks=_("Which was better in tune?"), unit=_("cents off"), alike=3.0, figure=_intonation_cents),
    Question(slug="notes", asks=_("Which had more right notes?"), unit=_("notes to mend"), alike=0.5, figure=_wrong_notes),
)


def tell(first: Result, second: Result) -> tuple[Told, ...]:
    """The questions that both takes can answer, with their answers."""
    told = []
    for question in QUESTIONS:
        a, b = question.figure(first), question.figure(second)
        if a is None or b is None:
            continue
        better = None if abs(a - b) < question.alike else int(b < a)
        told.append(Told(question=question, better=better, values=(a, b)))
    return tuple(told)
