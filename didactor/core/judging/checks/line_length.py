from __future__ import annotations

import math
from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, counted

#: The last sound of a line may begin this many bars before its end (a held close), and a bar later than it is read.
HELD_BARS, LATER_BARS = 2.0, 1.0
#: And the take is this much longer or shorter than the line at its target tempo, whatever beats were read.
LONGER, SHORTER = 1.2, 0.8


@check(
    code="flow.length", title=_("Length of the line"), category="flow", unit="bars", reference="bars heard against bars of the printed line"
)
def line_length(evidence: Evidence) -> Iterator[Finding]:
    """Without notation only the number of bars is known: a take that is clearly longer or shorter is not this line, or not all of it.

    Beats may be read double or half; only what the clock says as well is said.
    """
    written, notes = evidence.written_quarters, evidence.notes
    if written is None or len(notes) < 2 or notes[0].onset_s is None or notes[-1].onset_s is None:
        return
    bar = evidence.expectation.bars[0].length_quarters
    last = notes[-1].note.onset_quarters
    taken = (notes[-1].onset_s - notes[0].onset_s) * evidence.targets.tempo_qpm / 60.0
    longer = last >= written + LATER_BARS * bar and taken > LONGER * written
    shorter = last < written - HELD_BARS * bar and taken < SHORTER * written - bar
    if not longer and not shorter:
        return
    heard, bars = math.floor(last / bar + 1e-6) + 1, round(written / bar)
    yield Finding(
        code="flow.length",
        category="flow",
        text=counted(
            "About {count} bar is played; this passage has {bars}.",
            "About {count} bars are played; this passage has {bars}.",
            heard,
            bars=bars,
        ),
        confidence=0.8,
        severity=7.0,
        size=float(heard - bars),
        unit="bars",
    )
