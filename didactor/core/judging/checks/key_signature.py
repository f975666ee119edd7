from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.root_causes import forgotten_accidentals
from didactor.core.words import _, counted, note_name


@check(
    code="notes.key_signature",
    title=_("Key signature forgotten"),
    category="notes",
    unit="notes",
    reference="most of a sharpened or flattened step sounds natural",
)
def key_signature(evidence: Evidence) -> Iterator[Finding]:
    """One cause for many wrong notes: a sharp or flat of the key signature is not played."""
    for step, items in forgotten_accidentals(evidence).items():
        bars = list(dict.fromkeys(i.note.bar for i in items))
        yield Finding(
            code="notes.key_signature",
            category="notes",
            text=counted(
                "The {written} of the key is played as {step}, in bar {bars}.",
                "The {written} of the key is played as {step}, in bars {bars}.",
                len(bars),
                written=note_name(items[0].note.written_pitch),
                step=note_name(step),
                bars=", ".join(bars[:8]),
            ),
            confidence=0.9,
            severity=9.0,
            bar=items[0].note.bar,
            pass_=items[0].note.pass_,
            beat=items[0].note.beat,
            note_ids=tuple(i.note.id for i in items),
            size=float(len(items)),
            unit="notes",
            start_s=items[0].onset_s,
            end_s=items[0].offset_s,
        )
