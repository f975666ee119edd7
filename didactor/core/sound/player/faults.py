"""Listed faults applied to a performance. Each is a dict with ``kind`` and where it happens.

Places: ``note`` (index in performed order) or ``bar`` (printed number, first pass unless ``pass``) with ``beat`` (quarters from
0). Kinds and their sizes:

    wrong         semitones        another pitch instead (default +1)
    missed                         the note is left out
    extra         semitones        a sound between this note and the next, that far from it (default +2)
    late, early   ms               this note alone is displaced
    hesitation    beats            a pause before this note, in quarters; everything after waits
    restart       bars             at this note, jump back that many bars and play on from there
    skip          bars             from this note's bar, that many bars are left out
    detuned       cents            this note alone
    cut           share            sounds only that share of its length
    tempo         factor           the whole take, faster (> 1) or slower
    drift         percent          per bar, the whole take; rushing > 0
    tuning        cents            the whole take
    octave        octaves          the whole take
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from didactor.core.errors import PassageError
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.performance import PerformedNote

Fault = dict[str, Any]
Notes = list[PerformedNote]

#: Faults that change the order of the notes come last, so that places keep naming the written notes.
_ORDER = (
    "wrong",
    "detuned",
    "cut",
    "late",
    "early",
    "tuning",
    "octave",
    "tempo",
    "drift",
    "hesitation",
    "extra",
    "missed",
    "restart",
    "skip",
)


def apply_faults(notes: Notes, faults: list[Fault], expectation: Expectation, rng: np.random.Generator) -> Notes:
    """The performance with all ``faults`` in it. Raises ``PassageError`` for an unknown kind or place."""
    for fault in faults:
        if fault.get("kind") not in _APPLY:
            raise PassageError("faults.kind", f"There is no fault “{fault.get('kind')}”. Known: {', '.join(_ORDER)}.")
    result = list(notes)
    for fault in sorted(faults, key=lambda f: _ORDER.index(f["kind"])):
        result = _APPLY[fault["kind"]](result, fault, expectation)
    return sorted(result, key=lambda n: n.onset_s)


def _place(notes: Notes, fault: Fault, expectation: Expectation) -> int:
    """Index in ``notes`` of the note a fault names."""
    if "note" in fault:
        wanted = expectation.notes[int(fault["note"])] if 0 <= int(fault["note"]) < len(expectation.notes) else None
    else:
        wanted = next(
            (
                n
                for n in expectation.notes
                if n.bar == str(fault.get("bar")) and n.pass_ == fault.get("pass", 1) and abs(n.beat - fault.get("beat", 0.0)) < 1e-3
            ),
            None,
        )
    if wanted is not None:
        for index, note in enumerate(notes):
            if note.id == wanted.id and note.pass_ == wanted.pass_:
                return index
    raise PassageError("faults.place", f"The fault {fault} names a note that is not in the passage.")


def _wrong(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = _place(notes, fault, expectation)
    notes[at] = replace(notes[at], midi=notes[at].midi + int(fault.get("semitones", 1)))
    return notes


def _missed(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = _place(notes, fault, expectation)
    return notes[:at] + notes[at + 1 :]


def _extra(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = _place(notes, fault, expectation)
    note = notes[at]
    end = notes[at + 1].onset_s if at + 1 < len(notes) else note.offset_s
    middle = note.onset_s + 0.55 * (end - note.onset_s)
    stray = replace(
        note,
        id="",
        onset_s=middle,
        offset_s=middle + 0.9 * (end - middle),
        midi=note.midi + int(fault.get("semitones", 2)),
        expected_midi=None,
    )
    notes[at] = replace(note, offset_s=min(note.offset_s, middle))
    return [*notes[: at + 1], stray, *notes[at + 1 :]]


def _displace(sign: float) -> Callable[[Notes, Fault, Expectation], Notes]:
    def displace(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
        at = _place(notes, fault, expectation)
        shift = sign * float(fault.get("ms", 150)) / 1000.0
        notes[at] = replace(
            notes[at], onset_s=notes[at].onset_s + shift, offset_s=max(notes[at].offset_s, notes[at].onset_s + shift + 0.08)
        )
        if at and notes[at - 1].offset_s > notes[at].onset_s:
            notes[at - 1] = replace(notes[at - 1], offset_s=notes[at].onset_s)
        return notes

    return displace


def _shift_from(notes: Notes, at: int, seconds: float) -> Notes:
    return notes[:at] + [replace(n, onset_s=n.onset_s + seconds, offset_s=n.offset_s + seconds) for n in notes[at:]]


def _seconds_per_quarter(notes: Notes) -> float:
    span = notes[-1].quarters - notes[0].quarters
    return (notes[-1].onset_s - notes[0].onset_s) / span if span > 0 else 0.6


def _hesitation(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = _place(notes, fault, expectation)
    return _shift_from(notes, at, float(fault.get("beats", 1.5)) * _seconds_per_quarter(notes))


def _bar_start(notes: Notes, at: int, expectation: Expectation, bars_back: int) -> int:
    """Index of the first note of the bar that lies ``bars_back`` before the bar of note ``at``."""
    starts = [b.start_quarters for b in expectation.bars]
    here = max(i for i, s in enumerate(starts) if s <= notes[at].quarters + 1e-6)
    start = starts[max(0, here - bars_back)]
    return next(i for i, n in enumerate(notes) if n.quarters >= start - 1e-6)


def _restart(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = _place(notes, fault, expectation)
    back = _bar_start(notes, at, expectation, int(fault.get("bars", 1)))
    again = notes[back:]
    pause = float(fault.get("pause_s", 0.6))
    return notes[:at] + _shift_from(again, 0, notes[at].onset_s + pause - again[0].onset_s)


def _skip(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = _bar_start(notes, _place(notes, fault, expectation), expectation, 0)
    starts = [b.start_quarters for b in expectation.bars] + [expectation.length_quarters]
    here = max(i for i, s in enumerate(starts) if s <= notes[at].quarters + 1e-6)
    target = starts[min(len(starts) - 1, here + int(fault.get("bars", 1)))]
    rest = [i for i, n in enumerate(notes) if n.quarters >= target - 1e-6]
    if not rest:
        return notes[:at]
    return notes[:at] + _shift_from(notes[rest[0] :], 0, notes[at].onset_s - notes[rest[0]].onset_s)


def _detuned(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = _place(notes, fault, expectation)
    notes[at] = replace(notes[at], cents=notes[at].cents + float(fault.get("cents", -45)))
    return notes


def _cut(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = _place(notes, fault, expectation)
    length = notes[at].offset_s - notes[at].onset_s
    notes[at] = replace(notes[at], offset_s=notes[at].onset_s + max(0.06, float(fault.get("share", 0.4)) * length))
    return notes


def _stretch(notes: Notes, factor_at: Callable[[float], float]) -> Notes:
    """Scale time by the integral of ``factor_at`` (of quarters) from the first note on."""
    result, clock, before = [], notes[0].onset_s, notes[0]
    for note in notes:
        factor = factor_at(note.quarters)
        clock += (note.onset_s - before.onset_s) * factor
        result.append(replace(note, onset_s=clock, offset_s=clock + (note.offset_s - note.onset_s) * factor))
        before = note
    return result


def _tempo(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    return _stretch(notes, lambda quarters: 1.0 / float(fault.get("factor", 0.85)))


def _drift(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    per_bar = float(fault.get("percent", 1.5)) / 100.0
    bar = expectation.bars[0].length_quarters or 4.0
    return _stretch(notes, lambda quarters: 1.0 / (1.0 + per_bar) ** (quarters / bar))


def _tuning(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    return [replace(n, cents=n.cents + float(fault.get("cents", -30))) for n in notes]


def _octave(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    return [replace(n, midi=n.midi + 12 * int(fault.get("octaves", -1))) for n in notes]


_APPLY: dict[str, Callable[[Notes, Fault, Expectation], Notes]] = {
    "wrong": _wrong,
    "missed": _missed,
    "extra": _extra,
    "late": _displace(1.0),
    "early": _displace(-1.0),
    "hesitation": _hesitation,
    "restart": _restart,
    "skip": _skip,
    "detuned": _detuned,
    "cut": _cut,
    "tempo": _tempo,
    "drift": _drift,
    "tuning": _tuning,
    "octave": _octave,
}
