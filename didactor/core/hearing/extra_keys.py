"""Keys struck that nothing written explains: which strikes of a many-voiced take are extra notes.

Most strikes that the note model hears beside the written ones are overtones, beating strings or the room. A second logistic model
looks at both readings of the presence model (with what else is struck, and with what else is due) and at how the key stands to what
is written. Its weights (``presence_extra.json``) are fitted by ``bench/fit_presence`` and were chosen by training on one sound source
and testing on another.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from didactor.core.arrays import FloatArray
from didactor.core.hearing.groups import Strike
from didactor.core.hearing.hearing import ExtraNote, NoteHeard, Status
from didactor.core.hearing.presence import MODEL, Evidence, Model, features_of

if TYPE_CHECKING:
    from didactor.core.hearing.many_voices import Take

#: Intervals at which overtones of a key are heard.
OVERTONES = (12, 19, 24, 28, 31)
#: A weaker strike is none.
LEAST_STRENGTH = 0.4
#: Log odds from which on a strike is an extra note. On sources that were not fitted to (157 takes) 78 % are found, 76 % precise; from 4 on
#: 64 and 74 %, from 2.5 on 86 and 70 %, and twice the false findings.
EXTRA_FROM = 3.0
#: Strikes so near are heard together; a key struck again within this time rings rather than being struck twice.
TOGETHER_S, AGAIN_S = 0.06, 0.5
#: How long a key that is not written is taken to sound.
SOUNDS_S = 0.25
STRONG = 0.5
#: So near to a moment, and so far from a missing key of it (semitones), another may be struck instead.
EXTRA_NEAR_S, INSTEAD_WITHIN = 0.09, 12
#: A key that is heard at this share of another's strikes, of so many at least, belongs to the other's sound.
ALONG_SHARE, FEWEST_ALONG = 0.5, 2

EXTRA_MODEL = Model(
    path=Path(__file__).with_name("presence_extra.json"),
    names=(
        "odds_as_struck",
        "odds_as_due",
        "strength",
        "rise",
        "overtone",
        "octave",
        "twelfth",
        "undertone",
        "semitone",
        "take_onset",
        "again",
    ),
    wide=False,
)


def is_worth_asking(strike: Strike, written: Collection[int]) -> bool:
    """Whether a strike can be an extra note at all: strong enough, and its key neither due nor still sounding."""
    return strike.strength >= LEAST_STRENGTH and strike.midi not in written


def extra_rows(
    evidence: Evidence,
    strikes: Sequence[Strike],
    asked: Sequence[Strike],
    written: Sequence[Collection[int]],
    due: Sequence[frozenset[int]],
) -> FloatArray:
    """What the model looks at, shape (len(asked), features).

    Args:
        strikes: all of the take.
        asked: those in question; for each its ``written`` keys (due or still sounding) and the keys ``due`` at its time.
    """
    times = np.array([s.time_s for s in strikes])
    as_struck, as_due, more = [], [], []
    for strike, around, at_once in zip(asked, written, due, strict=True):
        first, last = np.searchsorted(times, [strike.time_s - AGAIN_S, strike.time_s + AGAIN_S])
        others = [s for s in strikes[first:last] if s is not strike]
        company = frozenset(s.midi for s in others if abs(s.time_s - strike.time_s) < TOGETHER_S and s.strength > STRONG) - {strike.midi}
        as_struck.append(features_of(evidence, strike.midi, strike.time_s, SOUNDS_S, company))
        as_due.append(features_of(evidence, strike.midi, strike.time_s, SOUNDS_S, at_once - {strike.midi}))
        above = {strike.midi - key for key in around}
        more.append(
            [
                strike.strength,
                strike.rise,
                bool(above & {*OVERTONES}),
                bool(above & {12, 24}),
                bool(above & {19, 31}),
                any(-a in OVERTONES for a in above),
                bool(above & {-1, 1}),
                evidence.typical_onset,
                any(s.midi == strike.midi and s.time_s != strike.time_s for s in others),
            ]
        )
    odds = [MODEL.log_odds(np.array(rows)) for rows in (as_struck, as_due)]
    return np.column_stack([*odds, np.array(more, dtype=float)])


def strays(take: Take, notes: list[NoteHeard]) -> tuple[list[Strike], FloatArray]:
    """Strikes between the first and the last matched moment that no written note took, and what the model of extra notes sees of
    each.
    """
    if len(take.times) < 2:
        return [], np.zeros((0, len(EXTRA_MODEL.names)))
    first_s, last_s = min(take.times.values()), max(take.times.values())
    taken = [(n.heard_midi, n.onset_s) for n in notes if n.onset_s is not None]
    asked, written = [], []
    for strike in take.strikes:
        if not first_s - 0.05 < strike.time_s < last_s + 0.05:
            continue
        around = take.expected_near(strike.time_s)
        is_taken = any(m == strike.midi and abs(t - strike.time_s) < 0.05 for m, t in taken)
        if is_worth_asking(strike, around) and not is_taken:
            asked.append(strike)
            written.append(around)
    if not asked:
        return [], np.zeros((0, len(EXTRA_MODEL.names)))
    return asked, extra_rows(take.evidence, take.strikes, asked, written, [take.due_at(s.time_s) for s in asked])


def _sounds_along(take: Take, strike: Strike) -> bool:
    """Whether a key is heard most times that one of those due with it is struck: that is how it sounds, not what was played."""
    for key in take.due_at(strike.time_s) - {strike.midi}:
        others = [
            t
            for m, t in take.times.items()
            if key in take.keys[m] and abs(t - strike.time_s) > TOGETHER_S and strike.midi not in take.expected_near(t)
        ]
        along = sum(any(s.midi == strike.midi and abs(s.time_s - t) < TOGETHER_S for s in take.strikes) for t in others)
        if len(others) >= FEWEST_ALONG and along >= ALONG_SHARE * len(others):
            return True
    return False


def extras_of(take: Take, notes: list[NoteHeard]) -> list[ExtraNote]:
    """Keys struck that nothing written explains."""
    asked, rows = strays(take, notes)
    if not asked:
        return []
    times = sorted((t, m) for m, t in take.times.items())
    found = []
    for strike, odds in zip(asked, EXTRA_MODEL.log_odds(rows).tolist(), strict=True):
        if odds < EXTRA_FROM or _sounds_along(take, strike):
            continue
        at, moment = max((t, m) for t, m in times if t <= strike.time_s + 0.06)
        position = take.moments[moment].quarters + max(0.0, strike.time_s - at) / max(take.alignment.seconds_per_quarter, 1e-3)
        bar = take.expectation.bar_at(min(position, take.expectation.length_quarters - 1e-3))
        found.append(
            ExtraNote(
                onset_s=strike.time_s,
                midi=strike.midi - take.shift,
                bar=bar.number,
                pass_=bar.pass_,
                beat=position - bar.start_quarters,
            )
        )
    return found


def with_wrong_ones(take: Take, notes: list[NoteHeard], extra: list[ExtraNote]) -> tuple[list[NoteHeard], list[ExtraNote]]:
    """A written key that is missing and another one struck in its moment instead are one fault: a wrong note.

    Of several that are missing there the nearest key is meant.
    """
    notes, kept = list(notes), []
    for found in extra:
        index = _meant(take, found.midi, found.onset_s, notes)
        if index is None or found.midi is None:
            kept.append(found)
            continue
        key = found.midi + take.shift
        offset_s = take.offset(key, found.onset_s, index)
        notes[index] = replace(notes[index], status=Status.WRONG_PITCH, onset_s=found.onset_s, offset_s=offset_s, heard_midi=key)
    return notes, kept


def _meant(take: Take, midi: int | None, time_s: float, notes: list[NoteHeard]) -> int | None:
    """The missing note whose moment a key was struck in, the nearest of several in pitch; None where none is within reach."""
    away = {
        index: abs(midi - take.expectation.notes[index].sounding_midi)
        for moment, at in take.times.items()
        if midi is not None and abs(at - time_s) < EXTRA_NEAR_S
        for index in take.moments[moment].notes
        if notes[index].status is Status.MISSED
    }
    near = min(away, key=away.__getitem__, default=None)
    return near if near is not None and away[near] <= INSTEAD_WITHIN else None
