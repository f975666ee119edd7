from __future__ import annotations

from collections.abc import Iterator

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.judge import SHORTENING
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.words import pitch_in_words, place_in_words
from didactor.core.words import _, worded

#: A long note sounds at least this share of its written length, and at least this share of what is usual with this player: who plays
#: everything detached has cut nothing short.
LEAST_SHARE, LEAST_OF_USUAL = 0.62, 0.7


@check(
    code="articulation.cut_short",
    title=_("Long note cut short"),
    category="articulation",
    unit="share",
    reference="sounding over written length, against the player's own touch on like notes",
)
def cut_short(evidence: Evidence) -> Iterator[Finding]:
    """A note of two beats and more that is left early. Not for instruments whose sound fades by itself."""
    if evidence.instrument.decays:
        return
    least = LEAST_SHARE if evidence.touch is None else min(LEAST_SHARE, LEAST_OF_USUAL * evidence.touch)
    for item in evidence.notes:
        if item.length_ratio is None or item.length_ratio >= least or item.status is not Status.CORRECT:
            continue
        if SHORTENING & set(item.note.articulations):
            continue
        yield Finding.at_note(
            item,
            code="articulation.cut_short",
            category="articulation",
            text=worded(
                "{place}: {pitch} is left early, after {length_ratio:.0f} % of its length.",
                place=place_in_words(evidence.expectation, item.note),
                pitch=pitch_in_words(item.note.written_pitch),
                length_ratio=100 * item.length_ratio,
            ),
            severity=4.6,
            size=item.length_ratio,
            unit="share",
        )
