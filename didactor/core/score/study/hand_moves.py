"""Where the hand moves: places in which a player must leave the position the hand is in."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

from didactor.core.instruments import Instrument
from didactor.core.score.model import Note
from didactor.core.score.study.fingering import fingering_of
from didactor.core.words import worded

#: Semitones that five fingers cover on a keyboard without moving, the thumb and the little one stretched a little.
KEYBOARD_SPAN = 9
#: The highest fret that a hand at the nut reaches.
NUT_FRET = 4


def hand_moves(notes: Sequence[Note], instrument: Instrument) -> dict[str, str]:
    """Note id to what the hand does there: “moves up”, “leaves first position”. Empty where nothing moves or nothing is known."""
    kind = instrument.fingering.partition(" ")[0]
    sounding = [n for n in _in_time(notes) if not n.grace and not n.tie_stop and not n.unpitched]
    if kind == "keyboard":
        found: dict[str, str] = {}
        for staff in sorted({n.staff for n in sounding}):
            found |= _on_keys([n for n in sounding if n.staff == staff])
        return found
    if kind in ("strings", "frets"):
        return _on_strings(sounding, instrument)
    return {}


def hand_changes(notes: Sequence[Note]) -> dict[str, str]:
    """Note id to “the left hand takes over”: where a line written on two staves goes from one to the other, one playing at a time."""
    sounding = [n for n in _in_time(notes) if not n.grace]
    found: dict[str, str] = {}
    before: set[int] = set()
    ends: dict[int, tuple[int, float]] = {}  # by staff: bar and quarter at which its last note is over
    for (bar_index, onset), group in itertools.groupby(sounding, key=_moment):
        together = [n for n in group if not n.tie_stop]
        staves = {n.staff for n in together}
        held = {staff for staff, (bar, end) in ends.items() if bar == bar_index and end > onset + 1e-6}
        if len(staves) == 1 and len(before) == 1 and staves != before and not held - staves:
            found[together[0].id] = worded("the right hand takes over") if staves == {1} else worded("the left hand takes over")
        before = staves or before
        for note in together:
            ends[note.staff] = (bar_index, onset + note.duration_quarters)
    return found


def _in_time(notes: Sequence[Note]) -> list[Note]:
    """Voice after voice, as scores are written, put into the order of time."""
    return sorted(notes, key=_moment)


def _moment(note: Note) -> tuple[int, float]:
    return note.bar_index, note.onset_quarters


def _on_keys(notes: list[Note]) -> dict[str, str]:
    """A window of five fingers slides only when it must: every slide is a move."""
    found: dict[str, str] = {}
    low = high = None
    moments = itertools.groupby(notes, key=_moment)
    for _, group in moments:
        together = list(group)
        bottom, top = min(n.sounding_midi for n in together), max(n.sounding_midi for n in together)
        if low is None or high is None:
            low, high = bottom, top
            continue
        wider_low, wider_high = min(low, bottom), max(high, top)
        if wider_high - wider_low <= KEYBOARD_SPAN:
            low, high = wider_low, wider_high
            continue
        found[together[0].id] = worded("moves up") if bottom + top > low + high else worded("moves down")
        low, high = bottom, top
    return found


def _on_strings(notes: list[Note], instrument: Instrument) -> dict[str, str]:
    found: dict[str, str] = {}
    away = False
    for note in notes:
        fingering = fingering_of(instrument, note.sounding_midi - instrument.transposition, note.sounding_midi)
        beyond = fingering is None or (fingering.kind == "frets" and int(fingering.words.split()[1]) > NUT_FRET)
        if beyond != away:
            found[note.id] = worded("leaves first position") if beyond else worded("back in first position")
        away = beyond
    return found


#: Wider than this in one hand at once, semitones: more than an octave.
WIDE_GRIP = 12


def wide_grips(notes: Sequence[Note]) -> tuple[int, ...]:
    """Indices of the bars in which one hand holds more than an octave at once: there nobody should force it."""
    together: dict[tuple[int, int, float], list[int]] = {}
    for note in notes:
        if not note.unpitched and not note.grace:
            together.setdefault((note.bar_index, note.staff, round(note.onset_quarters, 3)), []).append(note.sounding_midi)
    wide = {bar for (bar, _, _), pitches in together.items() if max(pitches) - min(pitches) > WIDE_GRIP}
    return tuple(sorted(wide))
