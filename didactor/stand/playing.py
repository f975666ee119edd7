"""Sitting down to play: what the page of the passage alone needs to sound it, to follow it and to record it."""

from __future__ import annotations

from typing import Any

from django.urls import reverse

from didactor.assignments.models import Task
from didactor.core.score.expected import Expectation
from didactor.core.score.write.engraving import PLAYED_FROM
from didactor.core.units import beats_to_quarters_per_minute
from didactor.library.desk import has_additions, pinned_drawings, road_map_of
from didactor.library.drawings import plain_drawings
from didactor.library.models import Passage
from didactor.library.notation import expectation_of
from didactor.library.sounds import enters_s, sound_at
from didactor.people.models import Person
from didactor.stand.pages import prepared_s, recorder_data, recording_state, step_entries, tempo_proposed

#: In a drawing, what is sung.
SYLLABLE = 'data-class="syl"'
#: Rendered models without a count-off begin after this much silence (``model_start_s``).
MODEL_LEAD_S = 0.3


def playing_page(task: Task, person: Person, step: str = "") -> dict[str, Any]:
    """The passage, the times at which its notes and bars are due, and the tempi it can be heard and recorded at; ``step`` is the one that
    the recorder is to begin with.
    """
    assignment, passage = task.assignment, task.passage
    expected = expectation_of(revision_id=passage.revision_id, part=passage.part, bars=passage.bars, order=passage.order)
    return {
        "task": task,
        "assignment": assignment,
        "drawings": _drawings(passage),
        "road": road_map_of(passage),
        "playing": {
            **_timeline(expected),
            "sounds": reverse("stand:sounds", args=[task.pk]),
            "check": reverse("stand:sound_check", args=[task.pk]),
            "tempi": task.tempi,
            "tempo": tempo_proposed(task),
            "asked": round(task.asked_tempo),
            "free": task.tempo_is_free,
            "unit": assignment.beat_unit_quarters,
            "countOff": assignment.count_off,
            "model": bool(expected.notes) and not task.is_read_at_sight,
            "accompaniment": bool(passage.root.accompaniment),
        },
        "prepared_s": prepared_s(task),
        "steps": step_entries(task, list(task.takes.all()), step),
        "bar_numbers": list(dict.fromkeys(bar.number for bar in expected.bars)),
        **recording_state(task, person),
        "recorder": recorder_data(task),
    }


def _drawings(passage: Passage) -> dict[str, str]:
    """The passage in a large staff. Words under notes need more room than the narrowest layout has: songs are drawn as elsewhere."""
    draw = pinned_drawings if has_additions(passage) else plain_drawings
    drawings = draw(passage, PLAYED_FROM)
    if SYLLABLE in drawings["handheld"]:
        drawings["handheld"] = draw(passage, ("phone",))["phone"]
    return drawings


def _timeline(expected: Expectation) -> dict[str, Any]:
    """Performed notes and bars by score position, quarters from the start; the anacrusis is counted into, not before."""
    return {
        "notes": [[note.id, round(note.onset_quarters, 4)] for note in expected.notes if not note.grace],
        "bars": [[bar.number, bar.pass_, bar.start_quarters, bar.length_quarters, bar.beat_quarters] for bar in expected.bars],
        "pickup": expected.pickup_quarters,
    }


def may_be_heard(task: Task, *, accompaniment: bool) -> bool:
    """What is read at sight is not heard beforehand; its accompaniment is there to record with."""
    return not task.is_sealed and not task.assignment.is_listening and (accompaniment or not task.is_read_at_sight)


def sound_data(task: Task, tempo: int, *, accompaniment: bool) -> dict[str, Any]:
    """Where the model or the accompaniment at a tempo is, ``leadS`` the time in it at which the passage begins; ``waiting`` until it is
    rendered. The accompaniment is the one to record with, too: it counts off by itself.
    """
    qpm = beats_to_quarters_per_minute(tempo, task.assignment.beat_unit)
    count_off = task.assignment.count_off if accompaniment else 0
    instrument = task.enrolment.instrument
    sound = sound_at(passage=task.passage, instrument=instrument, tempo_qpm=qpm, count_off=count_off, accompaniment=accompaniment)
    if sound is None or sound.failed:
        return {"failed": True}
    if not sound.sound:
        return {"waiting": True}
    url = reverse("library:model_sound", args=[sound.pk])
    return {"url": url, "sound": sound.pk, "leadS": enters_s(sound) if accompaniment else MODEL_LEAD_S, "tempo": tempo}
