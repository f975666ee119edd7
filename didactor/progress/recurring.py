"""What comes back with one student: causes that were likely in several of the takes they handed in."""

from __future__ import annotations

from dataclasses import dataclass

from django.db.models import Prefetch

from didactor.core.words import read
from didactor.people.models import Person
from didactor.takes.models import Analysis, Take

#: The newest takes that are looked at; a cause comes back from so many of them on.
TAKES_LOOKED_AT, COMES_BACK = 30, 2


@dataclass(frozen=True, kw_only=True)
class ComesBack:
    """``takes`` of ``of`` takes; ``says`` is what was said of it last, in ``last``."""

    title: str
    takes: int
    of: int
    says: str
    last: Take


def what_comes_back(person: Person) -> list[ComesBack]:
    """The most frequent first; nothing below two takes."""
    summaries = Prefetch("analyses", queryset=Analysis.objects.summaries())
    takes = (
        Take.objects.filter(task__enrolment__student=person, submission__isnull=False)
        .defer("peaks")
        .prefetch_related(summaries)
        .order_by("-created_at", "-pk")[:TAKES_LOOKED_AT]
    )
    found: dict[tuple[str, str], list[tuple[Take, str]]] = {}
    heard = 0
    for take in takes:
        analysis = take.latest_analysis
        if analysis is None:
            continue
        heard += 1
        for code, title, says in analysis.summary.get("causes", []):
            own = found.setdefault((code, read(title)), [])
            if not own or own[-1][0].pk != take.pk:
                own.append((take, read(says)))
    back = [
        ComesBack(title=title, takes=len(own), of=heard, says=own[0][1], last=own[0][0])
        for (_, title), own in found.items()
        if len(own) >= COMES_BACK
    ]
    return sorted(back, key=lambda b: (-b.takes, b.title))
