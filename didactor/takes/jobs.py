from __future__ import annotations

import logging
import time

from django.conf import settings
from django.core.files.base import ContentFile
from django.db import DatabaseError
from procrastinate.contrib.django import app

from didactor.core import ENGINE_VERSION
from didactor.core.analyse import analyse
from didactor.core.errors import CoreError
from didactor.core.formats.analysis_json import analysis_to_json
from didactor.core.judging.targets import Targets
from didactor.core.sound.backing import Backing
from didactor.core.sound.recording import open_recording, open_with_copy
from didactor.library.models import ModelSound
from didactor.library.services import expectation_of
from didactor.takes.models import Analysis, Take, TakeState
from didactor.takes.reading import summary_of
from didactor.takes.services import discard_stale_uploads

logger = logging.getLogger(__name__)

UNKNOWN_TROUBLE = "Something went wrong on our side. The recording is safe; it will be heard again when this is mended."


@app.task(queue="takes", retry=2)
def analyse_take(take_id: int) -> None:
    """Make the playback copy, hear the take and store the result. May run twice: what exists is not made again."""
    take = Take.objects.select_related("task__assignment").filter(pk=take_id).first()
    if take is None or (take.is_settled and take.analyses.filter(engine_version=ENGINE_VERSION).exists()):
        return
    try:
        _hear(take)
    except CoreError as error:
        _settle(take, TakeState.UNUSABLE, trouble=error.message)
    except DatabaseError:
        raise
    except Exception:
        logger.exception("take %s could not be analysed", take_id)
        _settle(take, TakeState.FAILED, trouble=UNKNOWN_TROUBLE)
        raise


def _hear(take: Take) -> None:
    started = time.monotonic()
    _step(take, "listening")
    with take.original.open("rb") as source:
        recording, copy = open_with_copy(source)
    if not take.playback:
        take.playback.save(f"{take.pk}.mp4", ContentFile(copy.body), save=False)
        take.playback_delay_s, take.duration_s, take.peaks = copy.delay_s, copy.duration_s, list(copy.peaks)
        take.save(update_fields=["playback", "playback_delay_s", "duration_s", "peaks"])
    basis = take.basis
    if not basis.get("judged", True):
        return _settle(take, TakeState.ANALYSED)  # an answer by playing: there is nothing to compare it with
    expectation = expectation_of(revision_id=basis["revision_id"], part=basis["part"], bars=basis["bars"], order=basis["order"])
    targets = Targets.from_json(basis["targets"])
    heard = analyse(recording, expectation, targets, progress=lambda step: _step(take, step), backing=_backing(basis.get("backing")))
    result = analysis_to_json(heard)
    Analysis.objects.get_or_create(
        take=take,
        engine_version=ENGINE_VERSION,
        defaults={"parameters": basis["targets"], "result": result, "summary": summary_of(result), "seconds": time.monotonic() - started},
    )
    quality = result["audio"]["quality"]
    usable = quality["verdict"] != "unusable"
    _settle(take, TakeState.ANALYSED if usable else TakeState.UNUSABLE, trouble="" if usable else quality["problems"][-1]["text"])


def _backing(played: dict[str, float] | None) -> Backing | None:
    """The accompaniment that the recorder played, as it was sent to the loudspeaker."""
    sound = ModelSound.objects.filter(pk=played["sound"]).exclude(sound="").first() if played else None
    if sound is None or played is None:
        return None
    with sound.sound.open("rb") as source:
        return Backing(samples=open_recording(source).samples, at_s=played["at_s"])


def _step(take: Take, step: str) -> None:
    """Where the work stands, for the page that waits for it."""
    Take.objects.filter(pk=take.pk).update(state=TakeState.ANALYSING, step=step)


def _settle(take: Take, state: TakeState, trouble: str = "") -> None:
    Take.objects.filter(pk=take.pk).update(state=state, step="", trouble=trouble[:300])


@app.periodic(cron="* * * * * */5")
@app.task(queue="upkeep", queueing_lock="retry_stalled", pass_context=False)
async def retry_stalled(timestamp: int) -> None:
    """Take up again the jobs of workers that died: a killed worker's job is not lost."""
    manager = app.job_manager
    silent_s = settings.PROCRASTINATE_WORKER_DEFAULTS["stalled_worker_timeout"]
    for job in await manager.get_stalled_jobs(seconds_since_heartbeat=silent_s):
        logger.warning("job %s (%s) is taken up again", job.id, job.task_name)
        await manager.retry_job(job)


@app.periodic(cron="17 3 * * *")
@app.task(queue="upkeep", queueing_lock="discard_uploads", pass_context=False)
def discard_uploads(timestamp: int) -> None:
    """Every night, remove uploads that were never finished."""
    discard_stale_uploads()
