from __future__ import annotations

from collections.abc import Iterator

from didactor.core.hearing.hearing import ChordReading, Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.judging.words import place_in_words
from didactor.core.words import _, counted, worded


@check(
    code="chords.wrong",
    title=_("Wrong or late chord"),
    category="notes",
    unit="strokes",
    reference="pitch classes that ring after a stroke",
)
def wrong_chord(evidence: Evidence) -> Iterator[Finding]:
    """Another chord than the written one sounds, from one stroke to the next as one remark."""
    run: list[ChordReading] = []
    for reading in [*(evidence.chords or ()), None]:
        if reading is not None and reading.status is Status.WRONG_PITCH and (not run or run[-1].written == reading.written):
            run.append(reading)
            continue
        if run:
            yield _finding(evidence, run)
        run = [reading] if reading is not None and reading.status is Status.WRONG_PITCH else []


def _finding(evidence: Evidence, run: list[ChordReading]) -> Finding:
    first = run[0]
    heard = max({r.heard for r in run if r.heard}, key=lambda name: sum(r.heard == name for r in run), default=None)
    place = place_in_words(evidence.expectation, first.note)
    heard_as = heard or worded("another chord")
    return Finding(
        code="chords.wrong",
        category="notes",
        text=counted(
            "{place}: {heard} instead of {written}.",
            "{place}: {heard} instead of {written} for {count} strokes.",
            len(run),
            place=place,
            heard=heard_as,
            written=first.written,
        ),
        confidence=min(r.confidence for r in run),
        severity=8.0,
        bar=first.note.bar,
        pass_=first.note.pass_,
        beat=first.note.beat,
        note_ids=tuple(r.note.id for r in run),
        size=float(len(run)),
        unit="strokes",
        start_s=first.onset_s,
        end_s=(run[-1].onset_s or 0.0) + 0.6,
    )
