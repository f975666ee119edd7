from __future__ import annotations

from collections.abc import Iterator

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.words import pitch_in_words, place_in_words
from didactor.core.words import _, worded

#: A rest of this many beats is filled when the note before it sounds through this share of it.
LEAST_BEATS, FILLED_SHARE = 1.0, 0.75


@check(
    code="articulation.rest_filled",
    title=_("Rest not kept"),
    category="articulation",
    unit="share",
    reference="share of the rest sounded through",
)
def rest_filled(evidence: Evidence) -> Iterator[Finding]:
    """A note held through the rest that follows it. Not for instruments whose sound fades by itself."""
    if evidence.instrument.decays or not evidence.targets.stage_rules.length:
        return
    for item, following in zip(evidence.notes[:-1], evidence.notes[1:], strict=True):
        note = item.note
        rest = following.note.onset_quarters - note.onset_quarters - note.duration_quarters
        beat = evidence.expectation.bar_at(note.onset_quarters).beat_quarters
        if rest < LEAST_BEATS * beat - 1e-6 or item.onset_s is None or following.onset_s is None or item.offset_s is None:
            continue
        if item.status is not Status.CORRECT or following.onset_s <= item.onset_s:
            continue
        whole = following.note.onset_quarters - note.onset_quarters
        end_s = item.onset_s + (following.onset_s - item.onset_s) * note.duration_quarters / whole
        share = (item.offset_s - end_s) / max(following.onset_s - end_s, 1e-3)
        if share < FILLED_SHARE:
            continue
        yield Finding.at_note(
            item,
            code="articulation.rest_filled",
            category="articulation",
            text=worded(
                "{place}: {pitch} sounds on through the rest after it.",
                place=place_in_words(evidence.expectation, note),
                pitch=pitch_in_words(note.written_pitch),
            ),
            severity=4.7,
            size=share,
            unit="share",
        )
