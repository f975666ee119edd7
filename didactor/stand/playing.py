"""Sitting down to play: what the page of the passage alone needs to sound it, to follow it and to record it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.urls import reverse

from didactor.assignments.models import MUST_SHOW, Task
from didactor.assignments.sheets import sheet_to_play
from didactor.core.hearing.one_tone import tones_to_tune
from didactor.core.instruments import find_instrument
from didactor.core.score.expected import Expectation
from didactor.core.score.roadmap import bars_between
from didactor.core.score.study.hand_moves import wide_grips
from didactor.core.score.study.songs import song_lines
from didactor.core.units import beats_to_quarters_per_minute
from didactor.library.desk import road_map_of
from didactor.library.models import Passage, Reference, ReferenceKind
from didactor.library.notation import expectation_of_passage, read_part, read_syllables
from didactor.library.sounds import anchors_of, enters_s, reference_sound_at, references_in_time, sound_at
from didactor.people.models import Person
from didactor.stand.pages import prepared_s, recorder_data, recording_state, step_entries, tempo_proposed

#: Rendered models without a count-off begin after this much silence (``model_start_s``).
MODEL_LEAD_S = 0.3


def playing_page(task: Task, person: Person, step: str = "") -> dict[str, Any]:
    """The passage, the times at which its notes and bars are due, and the tempi it can be heard and recorded at; ``step`` is the one that
    the recorder is to begin with.
    """
    assignment, passage = task.assignment, task.passage
    expected = expectation_of_passage(passage)
    framing = [MUST_SHOW[slug] for slug in assignment.must_show if slug in MUST_SHOW]
    heard_before = not task.is_read_at_sight
    laid = list(references_in_time(task.passage)) if heard_before else []
    return {
        "task": task,
        "assignment": assignment,
        "drawings": sheet_to_play(task),
        "young": not task.enrolment.reads_notes,
        "road": road_map_of(passage),
        "playing": {
            **_timeline(expected),
            "sounds": reverse("stand:sounds", args=[task.pk]),
            "check": reverse("stand:sound_check", args=[task.pk]),
            "tuning": reverse("stand:tuning", args=[task.pk]),
            "tempi": task.tempi,
            "tempo": tempo_proposed(task),
            "asked": round(task.asked_tempo),
            "free": task.tempo_is_free,
            "fast": task.fast_tempo,
            "unit": assignment.beat_unit_quarters,
            "countOff": assignment.count_off,
            "model": heard_before and bool(expected.notes),
            "names": heard_before and any(not note.unpitched for note in expected.notes),
            "accompaniment": bool(passage.root.accompaniment),
            "references": [_reference_data(reference) for reference in laid],
        },
        "laid": laid,
        "films": bool(framing) and not task.enrolment.student.picture_consent_missing,
        "framing": framing,
        "example": passage.root.references.filter(kind=ReferenceKind.VIDEO).first() if framing else None,
        "song": song_lines(expected, read_syllables(passage.revision_id, passage.part)),
        "wide_grips": _wide_grips(passage),
        "tones": [(name.rstrip("-0123456789"), midi) for name, midi in tones_to_tune(find_instrument(task.enrolment.instrument))],
        "prepared_s": prepared_s(task),
        "steps": step_entries(task, list(task.takes.all()), step),
        "bar_numbers": list(dict.fromkeys(bar.number for bar in expected.bars)),
        **recording_state(task, person),
        "recorder": recorder_data(task),
    }


def _wide_grips(passage: Passage) -> list[str]:
    """Bars in which a hand holds more than an octave at once."""
    part = read_part(passage.revision_id, passage.part)
    inside = {bar.index: bar.number for bar in bars_between(part, passage.bars)} if part.notes else {}
    many = find_instrument(part.instrument).many_voices
    return [inside[index] for index in wide_grips(part.notes) if index in inside] if many else []


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


def _reference_data(reference: Reference) -> dict[str, Any]:
    """``film``: where the picture is; ``laid`` when in it each moment is played."""
    film = reverse("library:reference", args=[reference.pk]) if reference.kind == ReferenceKind.VIDEO else ""
    return {
        "id": reference.pk,
        "title": reference.title,
        "film": film,
        "laid": reference.laid["anchors"] if film and reference.laid else [],
    }


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What a student wants to hear: the model, unless something else is named; at a tempo of the passage's, beats a minute."""

    tempo: int
    accompaniment: bool = False
    naming: str = ""
    reference: int | None = None


def sound_data(task: Task, wanted: Wanted) -> dict[str, Any]:
    """Where a sound is, ``leadS`` the time in it at which the passage begins; ``waiting`` until it is made.

    A teacher's recording has ``anchors`` besides, quarters and seconds, since its time bends. The accompaniment is the one to record with,
    too: it counts off by itself.
    """
    qpm = beats_to_quarters_per_minute(wanted.tempo, task.assignment.beat_unit)
    if wanted.reference is not None:
        reference = references_in_time(task.passage).filter(pk=wanted.reference).first()
        stretch = reference_sound_at(reference, qpm) if reference else None
        if stretch is None or stretch.failed:
            return {"failed": True}
        if not stretch.sound:
            return {"waiting": True}
        url = reverse("library:reference_sound", args=[stretch.pk])
        return {"url": url, "leadS": 0.0, "anchors": anchors_of(stretch), "tempo": wanted.tempo}
    count_off = task.assignment.count_off if wanted.accompaniment else 0
    sound = sound_at(
        passage=task.passage,
        instrument=task.enrolment.instrument,
        tempo_qpm=qpm,
        count_off=count_off,
        accompaniment=wanted.accompaniment,
        naming=wanted.naming,
    )
    if sound is None or sound.failed:
        return {"failed": True}
    if not sound.sound:
        return {"waiting": True}
    url = reverse("library:model_sound", args=[sound.pk])
    return {"url": url, "sound": sound.pk, "leadS": enters_s(sound) if wanted.accompaniment else MODEL_LEAD_S, "tempo": wanted.tempo}
