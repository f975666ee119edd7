from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.root_causes import others_sound
from didactor.core.judging.words import beat_in_words, midi_in_words
from didactor.core.words import _, worded


@check(code="notes.extra", title=_("Extra note"), category="notes", unit="notes", reference="a clear sound aligned with no written note")
def extra_note(evidence: Evidence) -> Iterator[Finding]:
    """A note that is not written, loud, long and clear enough not to be a slur's passing sound."""
    if others_sound(evidence):
        return  # one remark says it
    for extra in evidence.extra:
        bar = next(b for b in evidence.expectation.bars if (b.number, b.pass_) == (extra.bar, extra.pass_))
        beat = beat_in_words(round(extra.beat * 2) / 2, bar.beat_quarters)
        text = (
            worded("Bar {bar}, near beat {beat}: an extra stroke that is not written.", bar=extra.bar, beat=beat)
            if extra.midi is None
            else worded(
                "Bar {bar}, near beat {beat}: an extra {note} that is not written.",
                bar=extra.bar,
                beat=beat,
                note=midi_in_words(extra.midi - evidence.expectation.transposition, bar.fifths),
            )
        )
        yield Finding(
            code="notes.extra",
            category="notes",
            text=text,
            confidence=0.7,
            severity=6.0,
            bar=extra.bar,
            pass_=extra.pass_,
            beat=extra.beat,
            size=1.0,
            unit="notes",
            start_s=extra.onset_s,
            end_s=extra.onset_s + 0.5,
        )
