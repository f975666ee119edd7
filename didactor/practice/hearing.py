"""Attempts are judged, and what follows from that: a remedy's count, a remedy that is proposed, a copy to be heard again."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import timedelta

import numpy as np
import numpy.typing as npt
import soxr
from django.core.files.base import ContentFile
from django.core.files.storage import default_storage
from django.db import transaction
from django.utils import timezone

from didactor.assignments.models import Task
from didactor.core.errors import CoreError, PassageError
from didactor.core.formats.plain import to_plain
from didactor.core.practising.attempt import Asked, heard_whole
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.kinds import read_kind
from didactor.core.practising.remedies import remedy_for
from didactor.core.practising.verdict import Verdict
from didactor.core.sound.playback import encode_playback
from didactor.core.sound.recording import RATE_HZ
from didactor.core.words import worded
from didactor.practice.drilling import asked_of_drill
from didactor.practice.models import Attempt, OutcomeChoices, Remedy
from didactor.practice.music import asked_of, music_of_stone
from didactor.practice.places import carried_over, places_of, tries_of
from didactor.practice.samples import forget_samples, raw_samples
from didactor.practice.state import state_of, tally_of_remedy

#: Sounds of attempts are kept for so long.
SOUND_KEPT = timedelta(days=21)


def samples_of(attempt: Attempt) -> npt.NDArray[np.float32]:
    """What has come of an attempt so far, mono at ``RATE_HZ``."""
    raw = raw_samples(attempt)
    samples = np.frombuffer(raw[: len(raw) // 2 * 2], dtype="<i2").astype(np.float32) / 32768.0
    if attempt.rate == RATE_HZ or not len(samples):
        return samples
    return soxr.resample(samples, attempt.rate, RATE_HZ).astype(np.float32)


def asked(attempt: Attempt) -> Asked:
    """What an attempt is heard against. Raises ``PassageError`` where its stone is there no more."""
    if attempt.drill_id is not None:
        return asked_of_drill(attempt)
    state = state_of(attempt.task)
    stone = state.stone(attempt.stone) if state else None
    if state is None or stone is None:
        raise PassageError("crossing.stone", worded("This stone was cut anew; the attempt does not count."))
    return asked_of(attempt, stone, state.settings.rule.counts)


def settle(attempt: Attempt, found: Verdict, seconds: float) -> Attempt:
    """Keep a verdict, once: one that comes a second time changes nothing. Then the remedy's count, or a remedy, follows."""
    with transaction.atomic():
        kept = Attempt.objects.select_for_update(of=("self",)).get(pk=attempt.pk)
        if kept.ended and kept.outcome != OutcomeChoices.UNHEARD:
            return kept
        kept.outcome, kept.ended, kept.seconds = found.outcome.value, True, seconds
        kept.says, kept.bar, kept.code = found.says, found.bar[:20], found.code[:40]
        kept.cause = found.cause
        kept.at_fault = [list(pair) for pair in zip(found.at_fault, found.heard, strict=False)]
        kept.doubtful = list(found.doubtful)
        kept.changes = [[c.before, c.after, c.late_s, c.right] for c in found.changes]
        kept.place_s, kept.until_s = found.start_s, found.end_s
        kept.save()
    what_follows(kept)
    return kept


def hear_whole(attempt: Attempt) -> Attempt:
    """Hear an attempt that was ended."""
    samples = samples_of(attempt)
    try:
        found = heard_whole(samples, asked(attempt))
    except CoreError as error:
        found = Verdict(outcome=Outcome.UNSURE, says=error.message, code=error.code)
    return settle(attempt, found, len(samples) / RATE_HZ)


def what_follows(attempt: Attempt) -> None:
    """A remedy is done when its count is full; a stone that fails again and again is given one."""
    if attempt.trial or attempt.drill_id is not None:
        return
    remedy = attempt.remedy
    if remedy is not None:
        if remedy.is_open and tally_of_remedy(remedy) >= remedy.as_exercise.times:
            Remedy.objects.filter(pk=remedy.pk).update(done_at=timezone.now())
            if remedy.finds_out:
                propose(attempt.task, attempt.stone)
        return
    if attempt.outcome == OutcomeChoices.FAULT:
        propose(attempt.task, attempt.stone)


def propose(task: Task, stone_name: str) -> Remedy | None:
    """A remedy for what keeps failing at a stone, if anything can be told and none is open."""
    state = state_of(task)
    stone = state.stone(stone_name) if state else None
    if state is None or stone is None or state.remedy is not None:
        return None
    earlier = list(task.remedies.filter(stone=stone.name))
    since = max((r.done_at or r.put_aside_at or r.made_at for r in earlier if not r.finds_out or r.put_aside_at), default=None)
    tries = tries_of(state, stone, since)
    music = music_of_stone(task, stone)
    reading = read_kind(tries, places_of(task, stone, music), carried_over(state, stone, music))
    if reading is None or not reading.at:
        return None
    standing = state.crossing.standings[stone.name]
    tempo = max((t.tempo for t in tries if t.failed), default=standing.tempo)
    exercise = remedy_for(
        reading, music, bars=stone.bars, tempo=tempo, rungs=state.rungs, done=[r.exercise["means"] for r in earlier if r.done_at]
    )
    kind = reading.kind.value if reading.kind else ""
    return Remedy.objects.create(task=task, stone=stone.name, kind=kind, note_id=reading.at, exercise=to_plain(exercise))


def keep_sound(attempt: Attempt) -> None:
    """A small copy of an attempt's sound, to be heard again; its samples go."""
    samples = samples_of(attempt)
    if len(samples) and not attempt.sound:
        head, body = encode_playback(samples)
        with transaction.atomic():
            kept = Attempt.objects.select_for_update(of=("self",)).filter(pk=attempt.pk).first()
            if kept is not None and not kept.sound:
                kept.sound_delay_s = head["delay_s"]
                kept.sound.save(f"{kept.pk}.mp4", ContentFile(body), save=False)
                kept.save(update_fields=["sound", "sound_delay_s"])
    forget_samples(attempt)


def discard_old_sounds() -> int:
    """Sounds of attempts are kept for three weeks; what was won stays. Returns how many went."""
    old = Attempt.objects.exclude(sound="").filter(made_at__lt=timezone.now() - SOUND_KEPT)
    count = 0
    for attempt in old:
        name = str(attempt.sound.name)
        Attempt.objects.filter(pk=attempt.pk).update(sound="")
        default_storage.delete(name)
        count += 1
    return count


def forget_left_overnight() -> int:
    """Attempts that were begun and never ended, a day ago and more. Returns how many."""
    return forget_left(Attempt.objects.filter(ended=False, made_at__lt=timezone.now() - timedelta(days=1)))


def forget_left(attempts: Iterable[Attempt]) -> int:
    """A page that was closed in the middle leaves an attempt: it counts for nothing, and its samples only take room."""
    left = list(attempts)
    for attempt in left:
        forget_samples(attempt)
    Attempt.objects.filter(pk__in=[attempt.pk for attempt in left]).delete()
    return len(left)
