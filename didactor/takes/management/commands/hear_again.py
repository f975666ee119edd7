from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand

from didactor.core.engine import engine_version
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Take, TakeState


class Command(BaseCommand):
    """Queues takes that failed, or that this version of the engine has not heard yet. Older results and all marks stay."""

    help = "Hear takes again that failed or were heard by an older engine."

    def handle(self, *args: Any, **options: Any) -> None:
        wanted = (
            Take.objects.exclude(analyses__engine_version=engine_version())
            .exclude(state__in=(TakeState.UNUSABLE, TakeState.LIVE))
            .exclude(original="")
        )
        for take in wanted:
            analyse_take.defer(take_id=take.pk)
        self.stdout.write(f"{len(wanted)} takes are queued.")
