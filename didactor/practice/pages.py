"""What the page of a crossing needs: the score with its stones, what is played next and where in the passage that is."""

from __future__ import annotations

import calendar
from typing import Any

from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Task
from didactor.assignments.sheets import sheet_to_play
from didactor.core.practising.crossing import COUNTS
from didactor.core.practising.drills.drill import Drill
from didactor.core.practising.remedies import Exercise
from didactor.core.score.expected import Expectation
from didactor.core.score.study.payoff import payoffs
from didactor.core.words import worded
from didactor.library.notation import expectation_of, expectation_of_passage, read_part
from didactor.people.models import Person
from didactor.practice.drilling import KINDS, drill_data, following, shapes_of
from didactor.practice.models import Attempt, Remedy
from didactor.practice.music import music_of_exercise, music_of_stone
from didactor.practice.places import causes_of_practice
from didactor.practice.plan import habit_of, minutes_by_day, today_of
from didactor.practice.state import State, as_data, failed_in, hardness_of, minutes_played, tally_of_remedy

#: Of the log, days, attempts that can be heard, and remedies that are shown.
DAYS_SHOWN, ATTEMPTS_SHOWN, REMEDIES_SHOWN = 14, 12, 5


def crossing_page(state: State, person: Person) -> dict[str, Any]:
    """Everything on the page of one crossing."""
    task = state.task
    return {
        "task": task,
        "assignment": task.assignment,
        "drawings": sheet_to_play(task),
        "young": not task.enrolment.reads_notes,
        "plays_here": task.enrolment.student_id == person.pk,
        "rule": state.settings.rule,
        "what_counts": COUNTS[state.settings.rule.counts],
        "minutes_today": minutes_played([a for a in state.practised if timezone.localdate(a.made_at) == timezone.localdate()]),
        "today": today_of(state),
        "habit": habit_of(state),
        "weekdays": [(day, calendar.day_name[day], day in habit_of(state).days_off) for day in range(7)],
        "causes": causes_of_practice(state),
        "pays": payoffs(read_part(task.passage.revision_id, task.passage.part), hardness_of(task), failed_in(state.attempts)),
        "days": minutes_by_day(state.practised)[:DAYS_SHOWN],
        "last_ones": [a for a in reversed(state.attempts) if not a.by_hand][:ATTEMPTS_SHOWN],
        "remedies": list(task.remedies.order_by("-made_at")[:REMEDIES_SHOWN]),
        "refusal": worded("A guardian’s consent is needed before the first recording.") if task.enrolment.student.consent_missing else "",
        "practice": {
            **_sitting(task),
            "byHand": reverse("practice:by_hand", args=[task.pk]),
            "takeBack": reverse("practice:take_back", args=[task.pk]),
            "remedy": reverse("practice:remedy", args=[task.pk]),
            "state": reverse("practice:state", args=[task.pk]),
            "now": crossing_data(state),
        },
    }


def _sitting(task: Task) -> dict[str, Any]:
    """What a page needs on which attempts at a task are played."""
    expected = expectation_of_passage(task.passage)
    return {
        "bars": [[bar.number, bar.pass_, bar.start_quarters, bar.length_quarters, bar.beat_quarters] for bar in expected.bars],
        "notes": [[note.id, round(note.onset_quarters, 4)] for note in expected.notes if not note.grace],
        "unit": task.assignment.beat_unit_quarters,
        "countOff": max(2, task.assignment.count_off),
        "task": task.pk,
        "person": task.enrolment.student_id,
        "begin": reverse("practice:begin", args=[task.pk]),
        "piece": reverse("practice:piece", args=["00000000-0000-0000-0000-000000000000"]),
        "sound": reverse("practice:model", args=[task.pk]),
    }


def drill_page(task: Task, drill: Drill, *, warm: bool) -> dict[str, Any]:
    """Everything on the page of one drill. ``warm``: it is part of a warm-up, and the next one follows."""
    after = following(task, drill) if warm else None
    return {
        "task": task,
        "assignment": task.assignment,
        "drill": drill,
        "kind": KINDS[drill.kind],
        "drawings": sheet_to_play(task),
        "young": not task.enrolment.reads_notes,
        "warm": warm,
        "shapes": shapes_of(task, drill),
        "after": after,
        # A model of the whole passage is rendered; what is played from it has its own length and place.
        "hears": KINDS[drill.kind].two,
        "refusal": worded("A guardian’s consent is needed before the first recording.") if task.enrolment.student.consent_missing else "",
        "practice": {**_sitting(task), "touched": reverse("practice:touched", args=[task.pk]), "now": drill_data(task, drill)},
    }


def crossing_data(state: State) -> dict[str, Any]:
    """Where the crossing stands, and what is played next: the stone at work, or the exercise of a remedy that was taken up."""
    remedy = state.remedy
    data = as_data(state)
    data["remedy"] = _remedy_data(state, remedy) if remedy else None
    if remedy is not None and remedy.taken_at is not None and not remedy.as_exercise.silent:
        data["next"] = _exercise_data(state, remedy)
    elif state.at is not None:
        music = music_of_stone(state.task, state.at)
        data["next"] = {
            "stone": state.at.name,
            "remedy": None,
            "tempo": data["tempo"],
            **_road(state.task, music),
        }
    else:
        data["next"] = None
    return data


def _remedy_data(state: State, remedy: Remedy) -> dict[str, Any]:
    exercise = remedy.as_exercise
    return {
        "plays": _exercise_data(state, remedy),
        "id": remedy.pk,
        "title": exercise.title,
        "says": exercise.says,
        "tempo": exercise.tempo,
        "times": exercise.times,
        "tally": tally_of_remedy(remedy),
        "taken": remedy.taken_at is not None,
        "silent": exercise.silent,
    }


def _exercise_data(state: State, remedy: Remedy) -> dict[str, Any]:
    exercise = remedy.as_exercise
    music = music_of_exercise(state.task, exercise)
    return {
        "stone": remedy.stone,
        "remedy": remedy.pk,
        "tempo": exercise.tempo,
        **_road(state.task, music, exercise),
    }


def _road(task: Task, music: Expectation, exercise: Exercise | None = None) -> dict[str, Any]:
    """Where in the passage what is played lies: stretches of (quarters played so far, quarters of the passage, length)."""
    passage = expectation_of_passage(task.passage)
    starts: dict[str, float] = {}
    for bar in passage.bars:
        starts.setdefault(bar.number, bar.start_quarters)
    whole = _uncut(task, exercise) if exercise is not None and exercise.from_quarters is not None else None
    road = []
    for k, bar in enumerate(music.bars):
        inside = 0.0
        if whole is not None and exercise is not None and k == 0:
            inside = (exercise.from_quarters or 0.0) - next((b.start_quarters for b in whole.bars if b.number == bar.number), 0.0)
        if bar.number in starts:
            road.append([bar.start_quarters, starts[bar.number] + max(0.0, inside), bar.length_quarters])
    last = max((n.onset_quarters + n.duration_quarters for n in music.notes), default=music.length_quarters)
    return {
        "road": road,
        "length": max(last, 0.0),
        "beat": music.bars[0].beat_quarters if music.bars else 1.0,
        "pickup": music.pickup_quarters,
        "shown": sorted({bar.number for bar in music.bars}),
    }


def _uncut(task: Task, exercise: Exercise) -> Expectation:
    return expectation_of(
        revision_id=task.passage.revision_id, part=task.passage.part, bars=exercise.bars or task.passage.bars, order=exercise.order or ""
    )


def told(attempt: Attempt) -> dict[str, Any]:
    """What an attempt was, for the page that waits for it."""
    return {
        "id": str(attempt.pk),
        "outcome": attempt.counts_as.value,
        "was": attempt.outcome,
        "says": attempt.says,
        "cause": attempt.cause,
        "code": attempt.code,
        "bar": attempt.bar,
        "trial": attempt.trial,
        "place": attempt.place_s,
        "until": attempt.until_s,
    }
