from __future__ import annotations

import logging
from typing import Any

from asgiref.sync import sync_to_async
from django.db.models import F
from procrastinate.contrib.django import app
from procrastinate.jobs import Job, Status

from didactor.core.engine import engine_version
from didactor.core.errors import BusyError, CoreError, PassageError, SandboxError
from didactor.core.words import _, worded
from didactor.people.sent_once import forget_sent_forms
from didactor.people.sessions import SessionStore
from didactor.takes.bands import put_together
from didactor.takes.hearing import hear_take, settle
from didactor.takes.lifeline import TAKES, alone, forget_the_dead, lost_jobs
from didactor.takes.models import Take, TakeState, Together
from didactor.takes.retention import let_recordings_go
from didactor.takes.upkeep import discard_stale_uploads, sweep_files
from didactor.web.again import AGAIN, PASSING, WHEN_IT_PASSES

logger = logging.getLogger(__name__)

KEPT_SAFE = _("The recording is safe, and your teacher can hear it.")
UNKNOWN_TROUBLE = _("Something went wrong on our side. The recording is safe; it will be heard again when this is mended.")
LOST_TWICE = _("Twice the hearing of this take was broken off, so it is not tried again.")
#: So often a job may be lost with its worker; after that it is given up.
MOST_LOSSES = 2


@app.task(queue="takes", retry=AGAIN)
def analyse_take(take_id: int) -> None:
    """Make the playback copy, hear the take and store the result. May run twice, never at once: what exists is not made again."""
    with alone(TAKES, take_id):
        _analyse(take_id)


def _analyse(take_id: int) -> None:
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
    except BusyError:
        Take.objects.filter(pk=take.pk).update(state=TakeState.STORED, step="")
        raise
    except PASSING:
        # The take is as it was: it waits, and is taken up again.
        raise
    except CoreError as error:
        settle(take, TakeState.UNUSABLE, trouble=error.message)
    except Exception:
        logger.exception("take %s could not be analysed", take_id)
        settle(take, TakeState.FAILED, trouble=UNKNOWN_TROUBLE)
        raise


@app.task(queue="default", priority=5, retry=WHEN_IT_PASSES)
def put_takes_together(together_id: int) -> None:
    """Make one recording of several takes. May run twice: the second run finds it made."""
    made = Together.objects.select_related("assignment").filter(pk=together_id).first()
    if made is None or made.is_settled:
        return
    try:
        put_together(made)
    except BusyError:
        raise
    except CoreError as error:
        Together.objects.filter(pk=made.pk, sound="").update(trouble=error.message)


@app.periodic(cron="* * * * * */5")
@app.task(queue="upkeep", queueing_lock="retry_stalled", pass_context=False)
async def retry_stalled(timestamp: int) -> None:
    """Take up again the jobs of workers that died: a killed worker's job is not lost. One that is lost time and again is given up.

    A worker that was asked to end leaves its jobs without a number; that is nobody's fault and is not counted.
    """
    manager = app.job_manager
    for job in await lost_jobs(manager):
        if job.worker_id is None or await sync_to_async(_losses)(job) <= MOST_LOSSES:
            logger.warning("job %s (%s) is taken up again", job.id, job.task_name)
            await manager.retry_job(job)
        else:
            logger.error("job %s (%s) is given up: its worker died %s times", job.id, job.task_name, MOST_LOSSES + 1)
            await sync_to_async(_give_up)(job.task_name, job.task_kwargs)
            await manager.finish_job(job, status=Status.FAILED, delete_job=False)
    await forget_the_dead(manager)


def _losses(job: Job) -> int:
    """How often the job was lost with its worker, this time counted. A take has a count of its own: its tries are not all losses."""
    if job.task_name != analyse_take.name:
        return job.attempts + 1
    take = Take.objects.filter(pk=int(str(job.task_kwargs["take_id"])))
    take.update(lost=F("lost") + 1)
    return take.values_list("lost", flat=True).first() or 0


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
