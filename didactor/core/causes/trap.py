from __future__ import annotations

from collections.abc import Iterator

from didactor.core.causes.case import Case
from didactor.core.causes.registry import Cause, cause
from didactor.core.words import _, worded


@cause("trap")
def trap(case: Case) -> Iterator[Cause]:
    """The note of a like bar was played where this bar goes on differently."""
    numbers = {bar.index: bar.number for bar in case.part.bars}
    for fault in case.wrong:
        note = case.written[fault.note.id]
        like = case.likeness.get(note.bar_index)
        if like is None or note.id not in like.trap:
            continue
        pattern = case.at(like.pattern, note.onset_quarters, note.staff)
        played = [n for n in pattern if n.sounding_midi + like.semitones == fault.note.heard_midi]
        if not played or fault.note.heard_midi == note.sounding_midi:
            continue
        pattern_bar, points_to = numbers[like.pattern], [n.id for n in played]
        says = _("Bar {bar} begins like bar {pattern_bar} and goes on differently; what was played here is bar {pattern_bar}.")
        yield Cause.of(
            [fault],
            code="trap",
            title=worded("The like bar was played"),
            category="notes",
            says=says,
            confidence=0.92,
            points_to=points_to,
            bar=fault.note.bar,
            pattern_bar=pattern_bar,
        )
