"""What is put in order by night."""

from __future__ import annotations

from datetime import timedelta

from django.utils import timezone

from didactor.takes.models import Upload


def discard_stale_uploads(*, older_than_days: int = 7) -> int:
    """Remove uploads that were begun and never finished. Returns how many."""
    stale = Upload.objects.filter(take=None, created_at__lt=timezone.now() - timedelta(days=older_than_days))
    count = 0
    for upload in stale:
        upload.path.unlink(missing_ok=True)
        upload.delete()
        count += 1
    return count
