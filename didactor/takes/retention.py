"""Recordings go when they are as old as a studio keeps them; what was heard, marked and answered stays."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta

from django.core.files.storage import default_storage
from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from didactor.people.models import Studio
from didactor.takes.models import Take, Together, Upload
from didactor.takes.querysets import TakeQuerySet

#: A month, for this.
MONTH = timedelta(days=30.44)


def let_recordings_go(*, now: datetime | None = None) -> int:
    """Every studio's recordings that are older than it keeps them. Returns how many went; may be broken off and run again."""
    gone = 0
    for studio in Studio.objects.exclude(keep_months=None):
        for pk in list(older_than(studio, studio.keep_months, now).values_list("pk", flat=True)):
            gone += _let_go(pk)
    return gone


def older_than(studio: Studio, months: int | None, now: datetime | None = None) -> TakeQuerySet:
    """A studio's takes whose recording is older than so many months; none without a limit."""
    own: TakeQuerySet = Take.objects.filter(task__assignment__studio=studio).exclude(original="", playback="", picture="")
    if months is None:
        return own.none()
    # What waits on the desk, or is being heard, is not taken from under anybody's hands.
    waits = Q(submission__isnull=False, submission__answered_at=None) | Q(state__in=("stored", "analysing"))
    return own.filter(created_at__lt=(now or timezone.now()) - months * MONTH).exclude(waits)


@transaction.atomic
def _let_go(pk: int) -> bool:
    take = Take.objects.select_for_update(of=("self",)).filter(pk=pk).first()
    if take is None:
        return False
    original = str(take.original.name)
    copies = [str(file.name) for file in (take.playback, take.picture) if file]
    # What it was put together with others into has its sound in it.
    for made in Together.objects.filter(takes=take):
        copies += [str(made.sound.name)] if made.sound else []
        made.delete()
    Upload.objects.filter(take=take).delete()
    take.original = take.playback = take.picture = ""  # type: ignore[assignment]
    take.peaks, take.recording_gone_at = [], timezone.now()
    take.save(update_fields=["original", "playback", "picture", "peaks", "recording_gone_at"])
    if original and not Take.objects.filter(original=original).exists():
        copies.append(original)
    transaction.on_commit(lambda: _delete(copies))
    return True


def _delete(names: Iterable[str]) -> None:
    for name in names:
        default_storage.delete(name)
