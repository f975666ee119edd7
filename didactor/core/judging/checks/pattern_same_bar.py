from __future__ import annotations

from collections.abc import Iterator, Sequence

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.recurring import WORDS, Place, Recurring, as_finding, places_of
from didactor.core.judging.registry import Finding, pattern
from didactor.core.judging.words import beat_in_words
from didactor.core.words import _, worded


@pattern(
    code="pattern.same_bar",
    title=_("The same place every time"),
    category="other",
    unit="notes",
    reference="the same fault on the same note in every pass that was played",
)
def same_bar(evidence: Evidence, findings: Sequence[Finding]) -> Iterator[Finding]:
    """A bar that is played more than once goes wrong at the same note each time: it is learnt so, not slipped."""
    passes: dict[str, list[Place]] = {}
    for place in places_of(evidence):
        if place.item.onset_s is not None or place.item.confidence > 0.5:
            passes.setdefault(place.item.note.id, []).append(place)
    named = {(f.code, f.note_ids[0], f.pass_ or 1) for f in findings if f.code in WORDS and f.note_ids}
    for note_id, places in passes.items():
        if len(places) < 2:
            continue
        for code in WORDS:
            if all((code, note_id, p.item.note.pass_) in named for p in places):
                note = places[0].item.note
                beat = beat_in_words(note.beat, evidence.expectation.bar_at(note.onset_quarters).beat_quarters)
                yield as_finding(
                    Recurring(code=code, places=tuple(places), faults=len(places), chance=0.01),
                    code="pattern.same_bar",
                    category="other",
                    text=worded(
                        "Bar {bar}, beat {beat}: the same each time it is played ({words}).", bar=note.bar, beat=beat, words=WORDS[code]
                    ),
                )
