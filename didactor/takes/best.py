"""The fastest tempo at which a student has carried a passage, and in which tier."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from django.db.models import OuterRef, Subquery

from didactor.core.units import quarters_to_beats_per_minute
from didactor.takes.models import Analysis, Take, TakeState

#: Decisions that say a take was good.
_GOOD = {"passed", "next"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Best:
    """``tempo``: beats per minute as played; ``fast``: the fast tier was reached."""

    tempo: float
    fast: bool


def best_of(tasks: Iterable[int]) -> dict[int, Best]:
    """By task: of the takes of its goal that were passed, or in which nothing was to mend, the fastest. Nothing for the rest."""
    newest = Analysis.objects.filter(take=OuterRef("pk")).order_by("-pk")
    takes = (
        Take.objects.filter(task__in=list(tasks), state=TakeState.ANALYSED)
        .annotate(played=Subquery(newest.values("summary__played_qpm")[:1]), found=Subquery(newest.values("summary__findings")[:1]))
        .values_list(
            "task",
            "task__assignment__step",
            "basis__step",
            "played",
            "found",
            "basis__beat_unit",
            "basis__own_tempo",
            "task__assignment__fast_tempo",
            "submission__review__decision",
            "submission__review__sent_at",
        )
    )
    found: dict[int, Best] = {}
    for task, goal, step, played, remarks, unit, own, fast_tempo, decision, sent_at in takes:
        good = (sent_at is not None and decision in _GOOD) or remarks == 0
        if step != goal or not good or not played:
            continue
        fast = fast_tempo is not None and own == fast_tempo
        before = found.get(task)
        tempo = max(quarters_to_beats_per_minute(played, unit), before.tempo if before else 0.0)
        found[task] = Best(tempo=tempo, fast=fast or (before is not None and before.fast))
    return found
