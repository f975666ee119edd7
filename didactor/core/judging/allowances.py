"""What the notation itself allows: notes that may be left out, ornaments, grace notes, broken chords, holds.

The same for every ear: it delivers what was heard, and what of it is no fault is decided here.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from didactor.core.hearing.hearing import ExtraNote, Hearing, NoteHeard, Status
from didactor.core.score.expected import Expectation, ExpectedNote
from didactor.core.words import worded

#: Signs whose sounds are not written out.
ORNAMENTS = frozenset(
    {
        "trill-mark",
        "turn",
        "delayed-turn",
        "inverted-turn",
        "delayed-inverted-turn",
        "vertical-turn",
        "mordent",
        "inverted-mordent",
        "shake",
        "wavy-line",
        "schleifer",
        "tremolo",
        "haydn",
    }
)
#: The sounds of an ornament lie this near to its note (semitones), and in its time; grace notes this near to theirs (quarters).
ORNAMENT_REACH, GRACE_AWAY_QUARTERS, EARLY_QUARTERS = 3, 0.5, 0.25


def is_ornamented(note: ExpectedNote) -> bool:
    return not ORNAMENTS.isdisjoint(note.articulations)


def is_broken(note: ExpectedNote) -> bool:
    """Whether a note belongs to a chord that is broken: its moment is nobody's to judge."""
    return "arpeggiate" in note.articulations


def allowing(note: ExpectedNote, heard: NoteHeard) -> NoteHeard:
    """What was heard of one note, with what the notation allows called neither missing nor wrong."""
    if note.optional and heard.status is Status.MISSED:
        return replace(heard, status=Status.UNCERTAIN, reason=worded("this note may be left out"))
    if not is_ornamented(note) or heard.status is not Status.WRONG_PITCH or heard.heard_midi is None:
        return heard
    if abs(heard.heard_midi - note.sounding_midi) > ORNAMENT_REACH:
        return heard
    return replace(heard, status=Status.UNCERTAIN, reason=worded("it is ornamented: which of its pitches sounds longest says nothing"))


def unexplained(hearing: Hearing, expectation: Expectation) -> tuple[ExtraNote, ...]:
    """The extra sounds that no ornament and no grace note explains."""
    signs = list(_signs(expectation))
    if not signs:
        return hearing.extra
    starts = {(bar.number, bar.pass_): bar.start_quarters for bar in expectation.bars}

    def explained(extra: ExtraNote) -> bool:
        at = starts.get((extra.bar, extra.pass_), 0.0) + extra.beat
        return any(first <= at <= last and (extra.midi is None or abs(extra.midi - pitch) <= reach) for first, last, pitch, reach in signs)

    return tuple(extra for extra in hearing.extra if not explained(extra))


def _signs(expectation: Expectation) -> Iterator[tuple[float, float, int, int]]:
    """(from, to, pitch, reach) in which sounds that are not written out may come."""
    for note in expectation.notes:
        if note.grace:
            yield note.onset_quarters - GRACE_AWAY_QUARTERS, note.onset_quarters + GRACE_AWAY_QUARTERS, note.sounding_midi, 0
        elif is_ornamented(note):
            end = note.onset_quarters + note.duration_quarters
            yield note.onset_quarters - EARLY_QUARTERS, end + EARLY_QUARTERS, note.sounding_midi, ORNAMENT_REACH
