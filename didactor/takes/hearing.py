"""Hearing one take: from its file to a stored result."""

from __future__ import annotations

import time
from typing import Any

from django.conf import settings
from django.core.files.base import ContentFile
from django.db import transaction
from django.db.models import F

from didactor.assignments.models import Task
from didactor.core.formats.glance import moments_of, summary_of
from didactor.core.formats.plain import to_plain
from didactor.core.judging.targets import Targets
from didactor.core.sound.backing import Backing
from didactor.core.sound.level import loudness_lufs
from didactor.core.sound.picture import open_picture
from didactor.core.sound.recording import RATE_HZ, PlaybackCopy, open_recording, open_with_copy
from didactor.core.tone.measure import tone_of
from didactor.core.words import _, keep
from didactor.library.models import ModelSound
from didactor.library.notation import expectation_of
from didactor.library.sounds import enters_s
from didactor.takes.apart import hear_apart, hear_here
from didactor.takes.causes import likely_causes
from didactor.takes.models import Analysis, Take, TakeState
from didactor.takes.same import note_same_recording

NO_PICTURES = _("This is a film, and a guardian’s consent to pictures is missing. Send the sound alone, or ask your teacher.")
HEAR = hear_apart if settings.HEAR_APART else hear_here


def hear_take(take: Take) -> None:
    """Make the playback copy, hear the take against what it was asked for, and keep the result. Raises ``CoreError``."""
    started = time.monotonic()
    _step(take, "listening")
    with take.original.open("rb") as source:
        recording, copy = open_with_copy(source)
    take.has_picture, take.loudness_lufs = recording.has_video, loudness_lufs(recording.samples, RATE_HZ)
    Take.objects.filter(pk=take.pk).update(has_picture=take.has_picture, loudness_lufs=take.loudness_lufs)
    if recording.has_video and take.task.enrolment.student.picture_consent_missing:
        return settle(take, TakeState.UNUSABLE, trouble=NO_PICTURES)
    if not take.playback and not _keep_copy(take, copy):
        return  # it was deleted meanwhile
    if recording.has_video and not take.picture:
        _keep_picture(take)
    basis = take.basis
    if not basis.get("judged", True):
        return settle(take, TakeState.ANALYSED)  # an answer by playing: there is nothing to compare it with
    expectation = expectation_of(revision_id=basis["revision_id"], part=basis["part"], bars=basis["bars"], order=basis["order"])
    targets = Targets.from_json(basis["targets"])
    _step(take, "hearing")
    result = HEAR(recording=recording, expectation=expectation, targets=targets, backing=_backing(basis.get("backing")))
    Analysis.objects.get_or_create(
        take=take,
        engine_version=result.engine_version,
        defaults={
            "parameters": basis["targets"],
            "result": result.to_json(),
            "summary": {**summary_of(result), "causes": [[c.code, keep(c.title), keep(c.says)] for c in likely_causes(take, result)]},
            "moments": moments_of(result),
            "tone": to_plain(tone) if (tone := tone_of(recording.samples, result, expectation)) else None,
            "seconds": time.monotonic() - started,
        },
    )
    note_same_recording(take)
    if result.is_usable:
        settle(take, TakeState.ANALYSED)
    else:
        settle(take, TakeState.UNUSABLE, trouble=result.quality.problems[-1].text)


def _keep_copy(take: Take, copy: PlaybackCopy) -> bool:
    """Keep the copy for playing back with its take; False, and no file left, where the take is gone."""
    with transaction.atomic():
        kept = Take.objects.select_for_update().filter(pk=take.pk).first()
        if kept is None:
            return False
        take.playback.save(f"{take.pk}.mp4", ContentFile(copy.body), save=False)
        take.playback_delay_s, take.duration_s, take.peaks = copy.delay_s, copy.duration_s, list(copy.peaks)
        take.save(update_fields=["playback", "playback_delay_s", "duration_s", "peaks"])
    return True


def _keep_picture(take: Take) -> None:
    """The film's picture, to be shown beside the score. Without one the film can still be fetched as it came."""
    with take.original.open("rb") as source:
        picture = open_picture(source)
    if picture is None:
        return
    with transaction.atomic():
        kept = Take.objects.select_for_update().filter(pk=take.pk).first()
        if kept is None:
            return
        take.picture.save(f"{take.pk}.{picture.container}", ContentFile(picture.body), save=False)
        take.picture_delay_s = picture.delay_s
        take.save(update_fields=["picture", "picture_delay_s"])


def _backing(played: dict[str, Any] | None) -> Backing | None:
    """The accompaniment that the recorder played, as it was sent to the loudspeaker."""
    sound = ModelSound.objects.filter(pk=played["sound"]).exclude(sound="").first() if played else None
    if sound is None or played is None:
        return None
    with sound.sound.open("rb") as source:
        return Backing(samples=open_recording(source).samples, at_s=played["at_s"], enters_s=enters_s(sound))


def _step(take: Take, step: str) -> None:
    """Where the work stands, for the page that waits for it."""
    Take.objects.filter(pk=take.pk).update(state=TakeState.ANALYSING, step=step)


def settle(take: Take, state: TakeState, trouble: str = "") -> None:
    """The work on a take is over. One that was heard counts, once, however often it is heard again."""
    with transaction.atomic():
        kept = Take.objects.select_for_update().filter(pk=take.pk).first()
        if kept is None:
            return
        kept.state, kept.step, kept.trouble = state, "", trouble
        if state == TakeState.ANALYSED and not kept.counted and kept.on_the_way is None:
            kept.counted = True
            Task.objects.filter(pk=kept.task_id).update(takes_spent=F("takes_spent") + 1)
        kept.save(update_fields=["state", "step", "trouble", "counted"])
