"""Attempts at stones, goes at drills and lines read at sight for the demo: played by the simulated player, and heard like any other."""

from __future__ import annotations

import io
import uuid
from datetime import timedelta

import numpy as np
from django.utils import timezone

from didactor.assignments.models import Assignment, Task
from didactor.assignments.services import open_sealed
from didactor.core.instruments import BY_SLUG
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ, Samples
from didactor.core.sound.player.take import simulate, wav_bytes
from didactor.core.units import beats_to_quarters_per_minute
from didactor.demo.scenario import DemoAttempt, DemoGo
from didactor.library.notation import expectation_of_passage
from didactor.people.models import Enrolment
from didactor.practice.drilling import drill_data, drills_of, row_of
from didactor.practice.hearing import hear_whole, keep_sound
from didactor.practice.models import Attempt
from didactor.practice.music import music_of_stone
from didactor.practice.reading import new_line
from didactor.practice.state import state_of
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Take
from didactor.takes.services import receive_take

COUNTED = 2


def drill(task: Task, goes: tuple[DemoGo, ...]) -> None:
    """Goes at drills, a minute apart, yesterday."""
    begun = timezone.now() - timedelta(days=1, minutes=len(goes))
    for number, demo in enumerate(goes):
        drilled = next(group.drills[0].drill for group in drills_of(task) if group.kind.slug == demo.kind)
        tempo = drill_data(task, drilled)["next"]["tempo"]
        qpm = beats_to_quarters_per_minute(tempo, task.assignment.beat_unit)
        take = simulate(
            drilled.music,
            BY_SLUG[task.enrolment.instrument],
            qpm,
            faults=list(demo.faults),
            room="bedroom",
            seed=500 + number,
            manner="strum" if drilled.step == "chords" else "play",
        )
        attempt = Attempt.objects.create(
            task=task,
            drill=row_of(task, drilled),
            tempo=tempo,
            rate=SYNTH_RATE_HZ,
            start_s=take.truth["notes"][0]["onset_s"],
            made_at=begun + timedelta(minutes=number),
            ended=True,
        )
        _hear(attempt, take.samples)


def read_at_sight(enrolment: Enrolment, lines: tuple[tuple[int, tuple[int, ...]], ...]) -> None:
    """Lines read by oneself: days ago, and at which quarters of each the reader stops."""
    for days_ago, stops in lines:
        task = new_line(student=enrolment.student, enrolment=enrolment)
        open_sealed(task)
        music = expectation_of_passage(task.passage)
        faults = [{"kind": "hesitation", "note": len(music.notes) * k // 4, "beats": 2.5} for k in stops]
        made = simulate(music, BY_SLUG[enrolment.instrument], task.targets.tempo_qpm, faults=faults, room="bedroom", seed=task.pk)
        take = receive_take(student=enrolment.student, task=task, source=io.BytesIO(wav_bytes(made.samples)), filename="take.wav")
        analyse_take(take_id=take.pk)
        at = timezone.now() - timedelta(days=days_ago)
        Take.objects.filter(pk=take.pk).update(created_at=at)
        Assignment.objects.filter(pk=task.assignment_id).update(created_at=at - timedelta(minutes=5))


def _hear(attempt: Attempt, samples: Samples) -> None:
    attempt.samples_path.parent.mkdir(parents=True, exist_ok=True)
    attempt.samples_path.write_bytes((np.clip(samples, -1, 1) * 32767).astype("<i2").tobytes())
    keep_sound(hear_whole(attempt))


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
        _hear(attempt, take.samples)
