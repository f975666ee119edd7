from __future__ import annotations

from collections.abc import Iterator

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.root_causes import forgotten_accidentals
from didactor.core.judging.words import heard_in_words, pitch_in_words, place_in_words


@check(code="notes.wrong", title="Wrong note", category="notes", unit="semitones", reference="heard pitch against the written one")
def wrong_note(evidence: Evidence) -> Iterator[Finding]:
    """Another pitch than the written one, clear and long enough to be named."""
    explained = {id(item) for items in forgotten_accidentals(evidence).values() for item in items}
    for item in evidence.notes:
        if id(item) in explained or item.status is not Status.WRONG_PITCH or item.heard_midi is None:
            continue
        heard = item.heard_midi - evidence.shift
        yield Finding.at_note(
            item,
            code="notes.wrong",
            category="notes",
            text=f"{place_in_words(evidence.expectation, item.note)}: {pitch_in_words(item.note.written_pitch)} is written, "
            f"{heard_in_words(heard, item.note, evidence.expectation.bar_at(item.note.onset_quarters).fifths)} is played.",
            severity=8.0,
            size=float(heard - item.note.sounding_midi),
            unit="semitones",
        )
