"""A chord chart strummed: for every written stroke, the strings that sound the chord in force, one after the other."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np

from didactor.core.instruments import Instrument
from didactor.core.score.chords import chord_pitch_classes
from didactor.core.score.expected import Expectation, ExpectedNote
from didactor.core.sound.player.performance import PerformedNote

STRINGS = {"guitar": (40, 45, 50, 55, 59, 64), "ukulele": (67, 60, 64, 69)}
HIGHEST_FRET = 4
#: Time from the first to the last string of a stroke, seconds.
STROKE_S = (0.012, 0.035)


def strings_of(chord: tuple[int, ...], instrument: Instrument) -> list[int]:
    """MIDI numbers of the strings that sound a chord in an open position; strings below the root stay silent.

    Each string takes the lowest fret that sounds a pitch of the chord; the choice is then mended so that all its pitches occur.
    """
    chosen: list[int] = []
    root_found = instrument.slug != "guitar"
    for open_string in STRINGS.get(instrument.slug, STRINGS["guitar"]):
        options = [open_string + fret for fret in range(HIGHEST_FRET + 1) if (open_string + fret) % 12 in chord]
        if not root_found:
            options = [m for m in options if m % 12 == chord[0]]
        if not options:
            continue
        root_found = True
        missing = [m for m in options if m % 12 not in {c % 12 for c in chosen}]
        chosen.append((missing or options)[0])
    return chosen


def chord_at(expectation: Expectation, quarters: float) -> tuple[str, tuple[int, ...]] | None:
    """The chord symbol in force at a place, or None before the first."""
    before = [c for c in expectation.chords if c.onset_quarters <= quarters + 1e-6]
    return (before[-1].text, before[-1].pitch_classes) if before else None


def strummed(
    notes: list[PerformedNote],
    expectation: Expectation,
    instrument: Instrument,
    wrong: dict[int, str],
    rng: np.random.Generator,
) -> list[PerformedNote]:
    """Single strokes to strums. ``wrong`` maps a stroke's index to the symbol played instead of the written one."""
    written: dict[tuple[str, int], ExpectedNote] = {(n.id, n.pass_): n for n in expectation.notes}
    index_of = {(n.id, n.pass_): i for i, n in enumerate(expectation.notes)}
    result: list[PerformedNote] = []
    for note in notes:
        place = written.get((note.id, note.pass_))
        chord = chord_at(expectation, note.quarters)
        if chord is None:
            continue
        text, classes = chord
        if place is not None and index_of[note.id, note.pass_] in wrong:
            text = wrong[index_of[note.id, note.pass_]]
            classes = chord_pitch_classes(text)
        strings = strings_of(classes, instrument)
        downward = place is None or abs(place.beat - round(place.beat)) < 1e-6
        spread = float(rng.uniform(*STROKE_S))
        for number, midi in enumerate(strings if downward else strings[::-1][:4]):
            result.append(
                replace(
                    note,
                    onset_s=note.onset_s + spread * number / max(1, len(strings) - 1),
                    midi=midi,
                    velocity=int(np.clip(note.velocity + rng.normal(0, 5) - (0 if downward else 8), 25, 120)),
                    chord=text,
                    stroke=False,
                )
            )
    return _ring_until_next(result)


def _ring_until_next(notes: list[PerformedNote]) -> list[PerformedNote]:
    """Strings ring until the next stroke stops or renews them."""
    onsets = sorted({n.quarters for n in notes})
    first = {q: min(n.onset_s for n in notes if n.quarters == q) for q in onsets}
    following = dict(itertools.pairwise(onsets))
    return [replace(n, offset_s=max(n.onset_s + 0.05, first[following[n.quarters]])) if n.quarters in following else n for n in notes]
