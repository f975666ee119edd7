"""The takes of a task, asked of the database once however many things are told from them."""

from __future__ import annotations

from django.db.models import Prefetch, prefetch_related_objects

from didactor.takes.models import Analysis, Take


def takes_of_task(take: Take) -> list[Take]:
    """All takes of a take's task in order, each with whether it was handed in and what was heard in it.

    The whole result is there where first readings are compared, which need it; else a summary, the moments and the tone.
    """
    analyses = (
        Analysis.objects.defer("parameters") if take.targets.stage == "first_reading" else Analysis.objects.defer("parameters", "result")
    )
    takes = (
        Take.objects.select_related("submission")
        .defer("peaks")
        .order_by("number")
        .prefetch_related(Prefetch("analyses", queryset=analyses))
    )
    prefetch_related_objects([take.task], Prefetch("takes", queryset=takes, to_attr="known_takes"))
    known: list[Take] = take.task.known_takes  # type: ignore[attr-defined]
    return known
