"""Attempts at stones for the demo: played by the simulated player, and heard like any other."""

from __future__ import annotations

import uuid
from datetime import timedelta

import numpy as np
from django.utils import timezone

from didactor.assignments.models import Task
from didactor.core.instruments import BY_SLUG
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.core.units import beats_to_quarters_per_minute
from didactor.demo.scenario import DemoAttempt
from didactor.practice.hearing import hear_whole, keep_sound
from didactor.practice.models import Attempt
from didactor.practice.music import music_of_stone
from didactor.practice.state import state_of

COUNTED = 2


def practise(task: Task, attempts: tuple[DemoAttempt, ...]) -> None:
    """The attempts of some days, at the hour at which this household practises, a minute apart."""
    hour = timezone.localtime().replace(minute=0, second=0, microsecond=0) - timedelta(hours=1)
    for number, demo in enumerate(attempts):
        state = state_of(task)
        stone = state.stone(demo.stone) if state else None
        if state is None or stone is None:
            raise ValueError(f"{task} has no stone {demo.stone}")
        remedy = state.remedy if demo.remedy else None
        if remedy is not None and remedy.taken_at is None:
            remedy.taken_at = timezone.now()
            remedy.save(update_fields=["taken_at"])
        music, tempo = music_of_stone(task, stone), remedy.as_exercise.tempo if remedy else state.settings.tempo
        qpm = beats_to_quarters_per_minute(tempo, task.assignment.beat_unit)
        instrument = BY_SLUG[task.enrolment.instrument]
        style = Style(scatter_ms=9.0, wander_percent=0.8)
        take = simulate(music, instrument, qpm, faults=list(demo.faults), style=style, room="bedroom", seed=300 + number, count_off=COUNTED)
        beat_s = music.bars[0].beat_quarters * 60.0 / qpm
        attempt = Attempt.objects.create(
            id=uuid.uuid4(),
            task=task,
            stone=stone.name,
            bars=stone.bars,
            remedy=remedy,
            tempo=tempo,
            rate=SYNTH_RATE_HZ,
            start_s=take.truth["clicks_s"][-1] + beat_s - music.pickup_quarters * 60.0 / qpm,
            made_at=hour - timedelta(days=demo.days_ago) + timedelta(minutes=number),
            ended=True,
        )
        attempt.samples_path.parent.mkdir(parents=True, exist_ok=True)
        attempt.samples_path.write_bytes((np.clip(take.samples, -1, 1) * 32767).astype("<i2").tobytes())
        keep_sound(hear_whole(attempt))
