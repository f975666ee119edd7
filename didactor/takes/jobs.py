from __future__ import annotations

import logging
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import DatabaseError
from procrastinate import RetryStrategy
from procrastinate.contrib.django import app
from procrastinate.jobs import Status

from didactor.core.engine import engine_version
from didactor.core.errors import CoreError, PassageError, SandboxError
from didactor.core.words import _, worded
from didactor.people.sent_once import forget_sent_forms
from didactor.people.sessions import SessionStore
from didactor.takes.bands import put_together
from didactor.takes.hearing import hear_take, settle
from didactor.takes.models import Take, TakeState, Together
from didactor.takes.retention import let_recordings_go
from didactor.takes.upkeep import discard_stale_uploads, sweep_files
from didactor.web.store import AWAY

logger = logging.getLogger(__name__)

KEPT_SAFE = _("The recording is safe, and your teacher can hear it.")
UNKNOWN_TROUBLE = _("Something went wrong on our side. The recording is safe; it will be heard again when this is mended.")
LOST_TWICE = _("Twice the hearing of this take was broken off, so it is not tried again.")
#: So often a job may be lost with its worker; after that it is given up.
MOST_LOSSES = 2


#: A store or database that is away for a moment is waited for: 5, 11, 29 and 83 seconds.
AGAIN = RetryStrategy(max_attempts=4, wait=2, exponential_wait=3)


@app.task(queue="takes", retry=AGAIN)
def analyse_take(take_id: int) -> None:
    """Make the playback copy, hear the take and store the result. May run twice: what exists is not made again."""
    take = Take.objects.select_related("task__assignment").filter(pk=take_id).first()
    if take is None or (take.is_settled and take.analyses.filter(engine_version=engine_version()).exists()):
        return
    try:
        hear_take(take)
    except SandboxError as error:
        settle(take, TakeState.FAILED, trouble=worded("{trouble} {kept}", trouble=error.message, kept=KEPT_SAFE))
    except PassageError as error:
        # What was asked for cannot be judged; the take itself is none the worse for it.
        settle(take, TakeState.ANALYSED, trouble=error.message)
    except CoreError as error:
        settle(take, TakeState.UNUSABLE, trouble=error.message)
    except (DatabaseError, *AWAY):
        # The take is as it was: it waits, and is taken up again.
        raise
    except Exception:
        logger.exception("take %s could not be analysed", take_id)
        settle(take, TakeState.FAILED, trouble=UNKNOWN_TROUBLE)
        raise


@app.task(queue="default", priority=5)
def put_takes_together(together_id: int) -> None:
    """Make one recording of several takes. May run twice: the second run finds it made."""
    made = Together.objects.select_related("assignment").filter(pk=together_id).first()
    if made is None or made.is_settled:
        return
    try:
        put_together(made)
    except CoreError as error:
        Together.objects.filter(pk=made.pk, sound="").update(trouble=error.message)


@app.periodic(cron="* * * * * */5")
@app.task(queue="upkeep", queueing_lock="retry_stalled", pass_context=False)
async def retry_stalled(timestamp: int) -> None:
    """Take up again the jobs of workers that died: a killed worker's job is not lost. One that is lost time and again is given up."""
    manager = app.job_manager
    silent_s = settings.PROCRASTINATE_WORKER_DEFAULTS["stalled_worker_timeout"]
    for job in await manager.get_stalled_jobs(seconds_since_heartbeat=silent_s):
        if job.attempts < MOST_LOSSES:
            logger.warning("job %s (%s) is taken up again", job.id, job.task_name)
            await manager.retry_job(job)
        else:
            logger.error("job %s (%s) is given up: its worker died %s times", job.id, job.task_name, job.attempts)
            await sync_to_async(_give_up)(job.task_name, job.task_kwargs)
            await manager.finish_job(job, status=Status.FAILED, delete_job=False)


def _give_up(task_name: str, arguments: dict[str, Any]) -> None:
    """Say so where a take waits for it."""
    if task_name == analyse_take.name:
        take = Take.objects.filter(pk=arguments["take_id"]).first()
        if take is not None and not take.is_settled:
            settle(take, TakeState.FAILED, trouble=worded("{trouble} {kept}", trouble=LOST_TWICE, kept=KEPT_SAFE))


@app.periodic(cron="17 3 * * *")
@app.task(queue="upkeep", queueing_lock="discard_uploads", pass_context=False)
def discard_uploads(timestamp: int) -> None:
    """Every night: recordings go that are as old as their studio keeps them, uploads that were never finished, files that no row names,
    what was remembered of forms, and sessions that ran out.
    """
    let_recordings_go()
    discard_stale_uploads()
    sweep_files()
    forget_sent_forms()
    SessionStore.clear_expired()
