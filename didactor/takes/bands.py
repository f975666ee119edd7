"""A group heard together: the chosen takes of an assignment as one recording, of those who agree to it."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
from django.core.files.base import ContentFile
from django.db import transaction

from didactor.assignments.models import Assignment
from didactor.core.errors import CoreError
from didactor.core.sound.mp3 import mp3_of
from didactor.core.sound.recording import RATE_HZ, open_recording
from didactor.core.sound.together import Voice, bent, mixed
from didactor.core.units import beats_to_quarters_per_minute
from didactor.core.words import worded
from didactor.library.notation import expectation_of
from didactor.library.said import forget
from didactor.people.models import Consent, ConsentKind
from didactor.takes.beside import anchors_of
from didactor.takes.models import Take, TakeState, Together

#: More are not told apart, and take minutes.
MOST = 60


class TogetherRefused(Exception):
    """Says why."""


def agreed_among(people: Collection[int]) -> set[int]:
    """Which of these students agree to be heard together with others."""
    given = Consent.objects.filter(student__in=people, kind=ConsentKind.TOGETHER, withdrawn_at=None)
    return set(given.values_list("student_id", flat=True))


def may_be_together(*, assignment: Assignment, takes: Collection[int]) -> list[Take]:
    """Of these takes those that were handed in and heard, of students who agree to it.

    Raises ``TogetherRefused`` for fewer than two, or too many.
    """
    handed_in = Take.objects.filter(task__assignment=assignment, pk__in=takes, submission__isnull=False, state=TakeState.ANALYSED)
    chosen = list(handed_in.exclude(original="").select_related("task__enrolment"))
    agreed = agreed_among({take.task.enrolment.student_id for take in chosen})
    chosen = [take for take in chosen if take.task.enrolment.student_id in agreed]
    if not 2 <= len(chosen) <= MOST:
        raise TogetherRefused(worded("Choose two takes at least and {most} at most, of students who agree to it.", most=MOST))
    return chosen


def put_together(made: Together) -> None:
    """Bend, level, place and mix. A take in which too little was heard is left out; raises ``CoreError`` where fewer than two remain."""
    quarter_s = 60.0 / beats_to_quarters_per_minute(made.tempo, made.assignment.beat_unit)
    sounds, left_out = [], []
    for take in (
        made.takes.select_related("task__enrolment__student").prefetch_related("analyses").order_by("task__enrolment__instrument", "pk")
    ):
        basis = take.basis
        music = expectation_of(revision_id=basis["revision_id"], part=basis["part"], bars=basis["bars"], order=basis["order"])
        with take.original.open("rb") as source:
            recording = open_recording(source)
        try:
            voice = Voice(samples=np.asarray(recording.samples, dtype=np.float32), anchors=anchors_of(take, music))
            sounds.append(bent(voice, RATE_HZ, quarter_s))
        except CoreError:
            left_out.append(take)
    if len(sounds) < 2:
        raise CoreError("together.too_few", worded("Too little was heard in these takes to put them together."))
    body = mp3_of(mixed(sounds, RATE_HZ), RATE_HZ)
    with transaction.atomic():
        kept = Together.objects.select_for_update(of=("self",)).filter(pk=made.pk, sound="").first()
        if kept is None:
            return
        kept.takes.remove(*left_out)
        kept.sound.save(f"{kept.pk}.mp3", ContentFile(body), save=True)


def take_away(made: Together) -> None:
    """It is gone, with its sound."""
    with transaction.atomic():
        forget(made.sound)
        made.delete()
