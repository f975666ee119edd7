"""Keys struck that nothing written explains: which strikes of a many-voiced take are extra notes.

Most strikes that the note model hears beside the written ones are overtones, beating strings or the room. A second logistic model
looks at both readings of the presence model (with what else is struck, and with what else is due) and at how the key stands to what
is written. Its weights (``presence_extra.json``) are fitted by ``bench/fit_presence`` and were chosen by training on one sound source
and testing on another.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import Path

import numpy as np

from didactor.core.arrays import FloatArray
from didactor.core.hearing.groups import Strike
from didactor.core.hearing.presence import MODEL, Evidence, Model, features_of

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
