from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, worded

#: Change over the take from which listeners notice, in cents, and how well a straight line must explain it.
FROM_CENTS, EXPLAINED = 18.0, 0.4
FEWEST = 12


@check(
    code="intonation.drift",
    title=_("Tuning drifts"),
    category="intonation",
    unit="cents",
    reference="straight line through the notes' cents over time",
)
def tuning_drift(evidence: Evidence) -> Iterator[Finding]:
    """The tuning rises or sinks from beginning to end."""
    placed = [(n.onset_s, n.cents) for n in evidence.notes if n.cents is not None and n.onset_s is not None]
    if len(placed) < FEWEST:
        return
    times, cents = np.array(placed).T
    slope, offset = np.polyfit(times, cents, 1)
    change = float(slope * (times[-1] - times[0]))
    explained = 1 - float(np.square(cents - slope * times - offset).sum()) / max(float(np.square(cents - cents.mean()).sum()), 1e-9)
    if abs(change) < FROM_CENTS or explained < EXPLAINED:
        return
    yield Finding(
        code="intonation.drift",
        category="intonation",
        text=(
            worded("The tuning rises by {change:.0f} cents from beginning to end.", change=abs(change))
            if change > 0
            else worded("The tuning sinks by {change:.0f} cents from beginning to end.", change=abs(change))
        ),
        confidence=min(0.95, 0.5 + explained / 2),
        severity=5.4,
        size=change,
        unit="cents",
    )
