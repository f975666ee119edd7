from __future__ import annotations

import logging

from procrastinate.contrib.django import app

from didactor.archive.models import PersonCopy
from didactor.archive.of_person import discard_old_copies, make

logger = logging.getLogger(__name__)


@app.task(queue="default", priority=-5, retry=2, pass_context=True)
def make_copy(context: object, copy_id: int) -> None:
    """One file with all that is kept of a person; tried three times, then said."""
    copy = PersonCopy.objects.filter(pk=copy_id, file="", trouble="").select_related("person").first()
    if copy is None:
        return
    try:
        make(copy)
    except OSError:
        if getattr(getattr(context, "job", None), "attempts", 2) >= 2:
            logger.exception("a person's copy could not be made")
            PersonCopy.objects.filter(pk=copy_id).update(trouble="There was no room for it, or the store did not answer. Ask again later.")
            return
        raise


@app.periodic(cron="53 3 * * *")
@app.task(queue="upkeep", queueing_lock="discard_copies", pass_context=False)
def discard_copies(timestamp: int) -> None:
    """Every night: copies go that nobody fetched."""
    discard_old_copies()
