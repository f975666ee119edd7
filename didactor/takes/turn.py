"""When a take that waits is heard: how many come before it, and when it is worth asking again."""

from __future__ import annotations

from typing import NamedTuple

from django.db.models import Q
from procrastinate.contrib.django.models import ProcrastinateJob

from didactor.takes.models import Take, TakeState

#: A page asks again after so long, and so much later for each take before its own; at the latest after that, ms.
SOON_MS, EACH_MS, LATEST_MS = 700, 400, 20_000


class Turn(NamedTuple):
    """``ahead``: takes that are heard before it; ``ask_again_ms``: when something may have changed."""

    ahead: int
    ask_again_ms: int


def turn_of(take: Take) -> Turn:
    """Where a take stands in the queue: pages that wait for many before them must not keep the machine from hearing those."""
    ahead = _ahead_of(take) if take.state == TakeState.STORED else 0
    return Turn(ahead, min(LATEST_MS, SOON_MS + EACH_MS * ahead))


def _ahead_of(take: Take) -> int:
    waiting = ProcrastinateJob.objects.filter(queue_name="takes", status="todo")
    own = waiting.filter(args__take_id=take.pk).values("id", "priority").first()
    if own is None:
        return 0
    return waiting.filter(Q(priority__gt=own["priority"]) | Q(priority=own["priority"], id__lt=own["id"])).count()
