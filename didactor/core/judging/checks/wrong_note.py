from __future__ import annotations

from collections.abc import Iterator

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.root_causes import forgotten_accidentals
from didactor.core.judging.words import heard_in_words, pitch_in_words, place_in_words
from didactor.core.words import _, worded


@check(code="notes.wrong", title=_("Wrong note"), category="notes", unit="semitones", reference="heard pitch against the written one")
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
            text=worded(
                "{place}: {pitch} is written, {heard} is played.",
                place=place_in_words(evidence.expectation, item.note),
                pitch=pitch_in_words(item.note.written_pitch),
                heard=heard_in_words(heard, item.note, evidence.expectation.bar_at(item.note.onset_quarters).fifths),
            ),
            severity=8.0,
            size=float(heard - item.note.sounding_midi),
            unit="semitones",
        )
