from __future__ import annotations

from django.utils import timezone
from procrastinate.contrib.django import app

from didactor.letters.sending import send_waiting
from didactor.letters.writing import write_all


@app.periodic(cron="*/5 * * * *")
@app.task(queue="letters", queueing_lock="post")
def post(timestamp: int) -> None:
    """Write what has happened since, and send what waits."""
    now = timezone.now()
    write_all(now)
    send_waiting(now)
