from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.registry import Finding, check
from didactor.core.score.expected import ExpectedHairpin
from didactor.core.words import _, worded

#: A hairpin is judged over so many notes at least. It is heard from the first change of level on; what goes the other way, or not at all,
#: is below the second, and by more than chance.
FEWEST, HEARD_DB, MISSING_DB, SURE = 5, 2.0, 0.5, 2.0


@check(
    code="dynamics.hairpin",
    title=_("Crescendo or diminuendo not heard"),
    category="dynamics",
    unit="dB",
    reference="change of level along the hairpin by a robust line (Theil 1950; Sen 1968) through its notes",
)
def hairpin(evidence: Evidence) -> Iterator[Finding]:
    """Where the score grows or fades, the level stays or goes the other way."""
    if evidence.zones is None or evidence.targets.stage == "first_reading":
        return
    for mark in evidence.expectation.hairpins:
        change = _change_db(evidence, mark)
        if change is None:
            continue
        inside = [n for n in evidence.notes if mark.begin_quarters - 1e-6 <= n.note.onset_quarters < mark.end_quarters]
        first, last = inside[0].note, inside[-1].note
        values = {"first": first.bar, "last": last.bar, "change": change}
        yield Finding(
            code="dynamics.hairpin",
            category="dynamics",
            text=_in_words(mark.growing, first.bar == last.bar, values),
            confidence=0.75,
            severity=4.3,
            bar=first.bar,
            pass_=first.pass_,
            beat=first.beat,
            note_ids=tuple(n.note.id for n in inside),
            size=float(change),
            unit="dB",
            start_s=inside[0].onset_s,
            end_s=inside[-1].offset_s,
        )


def _change_db(evidence: Evidence, mark: ExpectedHairpin) -> float | None:
    """Change of level along a hairpin that is surely not what is written; None where it is, or cannot be told."""
    known = [
        (n.note.onset_quarters, n.loudness_db)
        for n in evidence.notes
        if mark.begin_quarters - 1e-6 <= n.note.onset_quarters < mark.end_quarters
        and n.status is Status.CORRECT
        and n.loudness_db is not None
        and not n.note.grace
    ]
    if len(known) < FEWEST:
        return None
    x, y = np.array(known, dtype=float).T
    pairs = [(i, j) for i in range(len(x)) for j in range(i + 1, len(x)) if x[j] > x[i]]
    if not pairs:
        return None
    slope = float(np.median([(y[j] - y[i]) / (x[j] - x[i]) for i, j in pairs]))
    length = x[-1] - x[0]
    scatter = float(1.4826 * np.median(np.abs(y - slope * x - np.median(y - slope * x)))) + 0.3
    # Standard error of a slope through evenly spread points, over the whole length.
    error = scatter * (12 / len(x)) ** 0.5
    change, wanted = slope * length, 1.0 if mark.growing else -1.0
    is_missing = wanted * change < MISSING_DB and HEARD_DB - wanted * change > SURE * error
    return change if is_missing else None


def _in_words(growing: bool, is_one: bool, values: dict[str, Any]) -> str:
    if growing:
        return (
            worded("Bar {first}: the crescendo does not grow ({change:+.0f} dB from its beginning to its end).", **values)
            if is_one
            else worded("Bars {first} to {last}: the crescendo does not grow ({change:+.0f} dB from its beginning to its end).", **values)
        )
    return (
        worded("Bar {first}: the diminuendo does not fade ({change:+.0f} dB from its beginning to its end).", **values)
        if is_one
        else worded("Bars {first} to {last}: the diminuendo does not fade ({change:+.0f} dB from its beginning to its end).", **values)
    )
