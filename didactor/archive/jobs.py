from __future__ import annotations

from procrastinate.contrib.django import app

from didactor.archive.models import BROKEN_OFF, PersonCopy
from didactor.archive.of_person import discard_old_copies, make
from didactor.core.words import _
from didactor.web.store import AWAY

#: So often it is tried again.
TRIES = 2
NO_ROOM = _("There was no room for it, or the store did not answer. Ask again later.")


@app.task(queue="default", priority=-5, retry=TRIES, pass_context=True)
def make_copy(context: object, copy_id: int) -> None:
    """One file with all that is kept of a person; tried three times, then said."""
    copy = PersonCopy.objects.filter(pk=copy_id, file="", trouble="").select_related("person").first()
    if copy is None:
        return
    try:
        make(copy)
    except Exception as error:
        if getattr(getattr(context, "job", None), "attempts", TRIES) >= TRIES:
            PersonCopy.objects.filter(pk=copy_id).update(trouble=NO_ROOM if isinstance(error, AWAY) else BROKEN_OFF)
        raise


@app.periodic(cron="53 3 * * *")
@app.task(queue="upkeep", queueing_lock="discard_copies", pass_context=False)
def discard_copies(timestamp: int) -> None:
    """Every night: copies go that nobody fetched."""
    discard_old_copies()
