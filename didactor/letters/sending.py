"""Letters go out one by one, with nothing locked while a mail server takes its time. What breaks off may come twice, never not at all."""

from __future__ import annotations

import logging
from datetime import datetime

from django.conf import settings
from django.core.mail import EmailMessage, get_connection
from django.db import transaction
from django.urls import reverse

from didactor.letters.models import Kind, Letter
from didactor.letters.writing import stop_key

logger = logging.getLogger(__name__)

#: In one go.
AT_ONCE = 100


def send_waiting(now: datetime) -> int:
    """Try what is due to be tried; how many went out."""
    sent = 0
    for _ in range(AT_ONCE):
        letter = _taken(now)
        if letter is None:
            break
        sent += _send(letter, now)
    return sent


@transaction.atomic
def _taken(now: datetime) -> Letter | None:
    """The next one, marked as tried before it is: two workers never send the same."""
    letter: Letter | None = Letter.objects.to_be_sent(now).select_for_update(skip_locked=True).first()
    if letter is not None:
        letter.tries, letter.tried_at = letter.tries + 1, now
        letter.save(update_fields=["tries", "tried_at"])
    return letter


def _send(letter: Letter, now: datetime) -> bool:
    stop = settings.ADDRESS + reverse("letters:stop", args=[stop_key(letter.person, Kind(letter.kind))])
    headers = {"List-Unsubscribe": f"<{stop}>", "List-Unsubscribe-Post": "List-Unsubscribe=One-Click"}
    try:
        message = EmailMessage(letter.subject, letter.body, None, [letter.address], headers=headers, connection=get_connection())
        message.send()
    except Exception as error:  # a mail server fails in many ways, and no letter may stop the others
        logger.warning("letter %s was not sent: %s", letter.pk, error)
        Letter.objects.filter(pk=letter.pk).update(trouble=str(error)[:200])
        return False
    Letter.objects.filter(pk=letter.pk).update(sent_at=now, trouble="")
    return True
