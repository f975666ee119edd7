from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.words import place_in_words
from didactor.core.words import _, worded


@check(code="notes.missed", title=_("Missed note"), category="notes", unit="notes", reference="no sound aligned with a written note")
def missed_note(evidence: Evidence) -> Iterator[Finding]:
    """A written note that was not played. Bars left out whole, and what follows a premature end, have findings of their own."""
    skipped = set(evidence.skipped_bars)
    heard = [i for i, n in enumerate(evidence.notes) if n.onset_s is not None]
    if not heard:
        return
    for index in range(heard[0], heard[-1]):
        item = evidence.notes[index]
        if item.status is not Status.MISSED or (item.note.bar, item.note.pass_) in skipped:
            continue
        before = max(i for i in heard if i < index)
        finding = Finding.at_note(
            item,
            code="notes.missed",
            category="notes",
            text=worded(
                "{place}: {in_words} is missing.",
                place=place_in_words(evidence.expectation, item.note),
                in_words=evidence.in_words(item.note),
            ),
            severity=8.0,
            size=1.0,
            unit="notes",
        )
        after = min(i for i in heard if i > index)
        yield replace(finding, start_s=evidence.notes[before].onset_s, end_s=evidence.notes[after].onset_s)
