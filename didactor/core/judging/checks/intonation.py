from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.words import pitch_in_words, place_in_words
from didactor.core.words import _, worded

#: Listeners accept 10-20 cents on sustained notes in melodies; with vibrato and expressive tuning more (Vurma & Ross 2006).
FROM_CENTS = 25.0
#: Pitch is heard less finely in short notes: below this length the threshold grows in proportion.
SHORT_S = 0.28
#: As in time, so in tune: a note stands out when it lies this many times the take's own scatter away; beyond so many cents always.
SCATTER_FACTOR, ALWAYS_CENTS, MAD_TO_SIGMA = 3.0, 40.0, 1.4826


@check(
    code="intonation.note",
    title=_("Note out of tune"),
    category="intonation",
    unit="cents",
    reference="median of the steady part against the tuned grid; Vurma & Ross 2006 for what listeners accept",
)
def intonation(evidence: Evidence) -> Iterator[Finding]:
    """A right note whose steady part lies well above or below the take's own tuning."""
    values = np.array([n.cents for n in evidence.notes if n.cents is not None])
    scatter_cents = MAD_TO_SIGMA * float(np.median(np.abs(values - np.median(values)))) if len(values) else 0.0
    from_cents = min(max(FROM_CENTS, SCATTER_FACTOR * scatter_cents), ALWAYS_CENTS)
    for item in evidence.notes:
        if item.cents is None or item.onset_s is None or item.offset_s is None:
            continue
        if abs(item.cents) < from_cents * max(1.0, SHORT_S / max(item.offset_s - item.onset_s, 0.05)):
            continue
        yield Finding.at_note(
            item,
            code="intonation.note",
            category="intonation",
            text=(
                worded(
                    "{place}: {pitch} is {cents:.0f} cents sharp.",
                    place=place_in_words(evidence.expectation, item.note),
                    pitch=pitch_in_words(item.note.written_pitch),
                    cents=abs(item.cents),
                )
                if item.cents > 0
                else worded(
                    "{place}: {pitch} is {cents:.0f} cents flat.",
                    place=place_in_words(evidence.expectation, item.note),
                    pitch=pitch_in_words(item.note.written_pitch),
                    cents=abs(item.cents),
                )
            ),
            severity=5.0 + min(abs(item.cents) / 50.0, 1.0),
            size=item.cents,
            unit="cents",
        )
