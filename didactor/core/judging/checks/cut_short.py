from __future__ import annotations

from collections.abc import Iterator

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.words import pitch_in_words, place_in_words

#: A long note sounds at least this share of its written length; detached playing leaves about 0.85.
LEAST_SHARE = 0.62


@check(
    code="articulation.cut_short",
    title="Long note cut short",
    category="articulation",
    unit="share",
    reference="sounding over written length",
)
def cut_short(evidence: Evidence) -> Iterator[Finding]:
    """A note of two beats and more that is left early. Not for instruments whose sound fades by itself."""
    if evidence.instrument.decays:
        return
    for item in evidence.notes:
        short = {"staccato", "staccatissimo", "breath-mark"} & set(item.note.articulations)
        if item.length_ratio is None or item.length_ratio >= LEAST_SHARE or item.status is not Status.CORRECT or short:
            continue
        yield Finding.at_note(
            item,
            code="articulation.cut_short",
            category="articulation",
            text=f"{place_in_words(evidence.expectation, item.note)}: {pitch_in_words(item.note.written_pitch)} is left early, "
            f"after {100 * item.length_ratio:.0f} % of its length.",
            severity=4.6,
            size=item.length_ratio,
            unit="share",
        )
