"""How far tasks have come: each with its newest take, its bars at a glance, and the teacher's answer if there is one."""

from __future__ import annotations

from dataclasses import dataclass, replace

from django.db.models import Prefetch

from didactor.assignments.models import Task
from didactor.assignments.querysets import TaskQuerySet
from didactor.practice.state import Summary
from didactor.review.models import Review
from didactor.takes.best import Best, best_of
from didactor.takes.models import Analysis, Take
from didactor.takes.strips import BarStrip, played_tempo, strip_of


@dataclass(frozen=True, kw_only=True)
class TaskRow:
    task: Task
    take: Take | None
    strip: BarStrip
    review: Review | None
    played: str
    practised: Summary | None = None
    best: Best | None = None


def task_rows(tasks: TaskQuerySet, most: int | None = None) -> list[TaskRow]:
    """Tasks (the first ``most`` of them) with their newest take, its bars at a glance, and the teacher's answer if there is one."""
    summaries = Prefetch("analyses", queryset=Analysis.objects.summaries())
    takes = Take.objects.select_related("submission__review").prefetch_related(summaries).defer("peaks").order_by("number")
    rows: list[TaskRow] = []
    for task in tasks.prefetch_related(Prefetch("takes", queryset=takes))[:most]:
        own = list(task.takes.all())
        submitted = [t for t in own if hasattr(t, "submission")]
        take = submitted[-1] if submitted else own[-1] if own else None
        review = getattr(take.submission, "review", None) if submitted and take else None
        analysis = take.latest_analysis if take else None
        rows.append(
            TaskRow(
                task=task,
                take=take,
                strip=strip_of(analysis),
                review=review if review and review.sent_at else None,
                played=played_tempo(analysis, take.basis["beat_unit"]) if take else "",
            )
        )
    tiers = [row.task.pk for row in rows if row.task.fast_tempo]
    best = best_of(tiers) if tiers else {}
    return [replace(row, best=best.get(row.task.pk)) for row in rows] if best else rows
