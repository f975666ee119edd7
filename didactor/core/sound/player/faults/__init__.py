"""Listed faults applied to a performance. Each is a dict with ``kind`` and where it happens.

Places: ``note`` (index in performed order) or ``bar`` (printed number, first pass unless ``pass``) with ``beat`` (quarters from
0). Kinds and their sizes:

    wrong         semitones        another pitch instead (default +1)
    missed                         the note is left out
    extra         semitones        a sound between this note and the next, that far from it (default +2); ``share`` says where
                                   between them (default 0.55; 0 is a neighbouring key struck together with it)
    late, early   ms               this note alone is displaced
    hesitation    beats            a pause before this note, in quarters; everything after waits
    restart       bars             at this note, jump back that many bars and play on from there
    skip          bars             from this note's bar, that many bars are left out
    repeat                         no bar is played a second time
    entry         beats            everything comes that many quarters late (early < 0) against count-off and backing
    stroke        count            that many more strokes after the last, at its pace (default 1)
    key           step             the key signature forgotten: every sharpened or flattened ``step`` sounds natural
    transposed    semitones        the whole take
    octave        octaves          the whole take
    tuning        cents            the whole take
    tuning_drift  cents            the whole take, gone flat (< 0) or sharp by that much at its end
    detuned       cents            this note alone
    cut           share            sounds only that share of its length
    filled                         held through the rest that follows
    flat                           no difference between loud and soft, no accents
    covered       velocity         the upper of two staves softer by so much (MIDI velocity), the lower louder by a third of it
    voicing       velocity         the highest note of each chord of one hand softer by so much
    hand          ms, staff        one staff's notes late (early < 0)
    uneven        percent          first halves of beats take that share of the beat (50 is even), from ``bar`` to ``to_bar``
    tempo         factor           the whole take, faster (> 1) or slower
    drift         percent          per bar, the whole take; rushing > 0
    ritardando    percent          the last ``quarters`` (default 4) slow down to that share of the tempo
"""

from __future__ import annotations

from collections.abc import Callable

from didactor.core.errors import PassageError
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.faults import notes as of_notes
from didactor.core.sound.player.faults import order as of_order
from didactor.core.sound.player.faults import time as of_time
from didactor.core.sound.player.faults.places import Fault, Notes
from didactor.core.words import worded

#: In this order: faults that change the order of the notes come last, so that places keep naming the written notes.
_APPLY: dict[str, Callable[[Notes, Fault, Expectation], Notes]] = {
    "wrong": of_notes.wrong,
    "key": of_notes.key,
    "detuned": of_notes.detuned,
    "transposed": of_notes.transposed,
    "octave": of_notes.octave,
    "tuning": of_notes.tuning,
    "tuning_drift": of_notes.tuning_drift,
    "flat": of_notes.flat,
    "covered": of_notes.covered,
    "voicing": of_notes.voicing,
    "cut": of_notes.cut,
    "filled": of_notes.filled,
    "uneven": of_time.uneven,
    "late": of_time.late,
    "early": of_time.early,
    "hand": of_time.hand,
    "ritardando": of_time.ritardando,
    "tempo": of_time.tempo,
    "drift": of_time.drift,
    "entry": of_time.entry,
    "hesitation": of_time.hesitation,
    "extra": of_notes.extra,
    "stroke": of_order.stroke,
    "missed": of_notes.missed,
    "repeat": of_order.repeat,
    "skip": of_order.skip,
    "restart": of_order.restart,
}


def apply_faults(notes: Notes, faults: list[Fault], expectation: Expectation) -> Notes:
    """The performance with all ``faults`` in it. Raises ``PassageError`` for an unknown kind or place."""
    for fault in faults:
        if fault.get("kind") not in _APPLY:
            raise PassageError(
                "faults.kind", worded("There is no fault “{get}”. Known: {apply}.", get=fault.get("kind"), apply=", ".join(_APPLY))
            )
    result = list(notes)
    kinds = list(_APPLY)
    for fault in sorted(faults, key=lambda f: kinds.index(f["kind"])):
        result = _APPLY[fault["kind"]](result, fault, expectation)
    return sorted(result, key=lambda n: (n.onset_s, n.midi))
