"""Two notes in turn: the leap or the move of the hand that is hardest."""

from __future__ import annotations

from collections import Counter
from itertools import pairwise

from didactor.core.analyse import Analysis
from didactor.core.hearing.hearing import Status
from didactor.core.judging.words import pitch_in_words
from didactor.core.practising.drills.drill import Drill, Material, one_after_the_other, upper_line
from didactor.core.practising.drills.reading import could_not_be_judged, told_of_changes
from didactor.core.practising.drills.registry import Kind, register
from didactor.core.practising.verdict import SURE, Verdict
from didactor.core.score.expected import ExpectedNote
from didactor.core.score.study.hand_moves import hand_moves
from didactor.core.words import _, worded

#: Notes in one go, semitones from which a step is a leap, and what counts how much: failures there, a move of the hand.
NOTES, LEAP, FAILURE_WEIGHT, MOVE_WEIGHT = 8, 4, 6, 5


def _offers(material: Material) -> list[Drill]:
    if material.step == "chords" or not material.instrument.pitched:
        return []
    moves = hand_moves(material.part.notes, material.instrument)
    worth: Counter[tuple[int, int, int]] = Counter()
    first: dict[tuple[int, int, int], tuple[ExpectedNote, ExpectedNote]] = {}
    for staff in sorted({n.staff for n in material.music.notes}):
        for one, other in pairwise(upper_line(material, staff)):
            leap = abs(other.sounding_midi - one.sounding_midi)
            failed = material.failed.get(other.id, 0)
            if not leap or not (leap >= LEAP or other.id in moves or failed):
                continue
            # The same two notes, wherever they stand, are the same way for the hand.
            key = (staff, one.sounding_midi, other.sounding_midi)
            first.setdefault(key, (one, other))
            worth[key] = max(worth[key], leap + MOVE_WEIGHT * (other.id in moves)) + FAILURE_WEIGHT * failed
    hardest = sorted(worth, key=lambda key: (-worth[key], first[key][0].onset_quarters, key))
    found: dict[frozenset[int], Drill] = {}
    for key in hardest:
        found.setdefault(frozenset(key[1:]), _drill(material, *first[key]))
    return list(found.values())


def _names(one: ExpectedNote, other: ExpectedNote) -> tuple[str, str]:
    names = pitch_in_words(one.written_pitch), pitch_in_words(other.written_pitch)
    if names[0] != names[1]:
        return names
    low, high = worded("low {names}", names=names[0]), worded("high {names}", names=names[0])
    return (low, high) if one.sounding_midi < other.sounding_midi else (high, low)


def _drill(material: Material, one: ExpectedNote, other: ExpectedNote) -> Drill:
    beat = material.music.bar_at(one.onset_quarters).beat_quarters
    notes = [(one, other)[k % 2] for k in range(NOTES)]
    names = _names(one, other)
    return Drill(
        kind="two_notes",
        of=f"{one.id} {other.id}",
        title=worded("{names} and {names_2}, bar {bar}", names=names[0], names_2=names[1], bar=other.bar),
        music=one_after_the_other(material, notes, beat, 2),
        road=tuple((k * beat, note.onset_quarters, beat, min(beat, note.duration_quarters)) for k, note in enumerate(notes)),
    )


def _reads(drill: Drill, analysis: Analysis, quarter_s: float) -> Verdict:
    if analysis.evidence is None:
        return could_not_be_judged(analysis)
    notes = sorted(analysis.evidence.notes, key=lambda n: n.note.onset_quarters)
    names = _names(drill.music.notes[0], drill.music.notes[1])
    right = [None if n.status is Status.UNCERTAIN or n.confidence < SURE else n.status is Status.CORRECT for n in notes]
    beat = drill.music.bars[0].beat_quarters
    return told_of_changes(
        [names[k % 2] for k in range(len(notes))],
        [n.onset_s for n in notes],
        right,
        wait_s=drill.music.notes[1].onset_quarters * quarter_s,
        beat_s=beat * quarter_s,
        what="note",
    )


register(
    Kind(
        slug="two_notes",
        title=_("Two notes"),
        says=_("The leap or the move of the hand by itself, to and fro."),
        place=20,
        changes=True,
        two=True,
        most=5,
        offers=_offers,
        reads=_reads,
    )
)
