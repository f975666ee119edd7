from __future__ import annotations

from collections.abc import Iterator, Sequence

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.recurring import WORDS, as_finding, bars_in_words, places_of, recurring
from didactor.core.judging.registry import Finding, pattern

#: A leap is a fourth or more.
LEAP_SEMITONES = 5
NAMES = {5: "a fourth", 6: "a tritone", 7: "a fifth", 8: "a sixth", 9: "a sixth", 10: "a seventh", 11: "a seventh", 12: "an octave"}


@pattern(
    code="pattern.leap",
    title="The same leap",
    category="notes",
    unit="notes",
    reference="hypergeometric test of faults after one leap, and after leaps of any size",
)
def leap(evidence: Evidence, findings: Sequence[Finding]) -> Iterator[Finding]:
    """Faults come after leaps, or after one leap of the same size and direction."""
    leaps = sorted(set(_leaps(evidence)), key=lambda s: (abs(s), s))
    single = [
        (found, f"after {NAMES.get(abs(size), 'a wide leap')} {'up' if size > 0 else 'down'}")
        for size in leaps
        for found in recurring(evidence, findings, lambda p, size=size: p.interval == size)  # type: ignore[misc]
    ]
    every = [(found, "after leaps") for found in recurring(evidence, findings, lambda p: abs(p.interval) >= LEAP_SEMITONES)]
    for found, words in single or every:
        yield as_finding(
            found,
            code="pattern.leap",
            category="notes",
            text=f"Time and again {words}: {len(found.places)} of {found.faults} {WORDS[found.code]}, in {bars_in_words(found)}.",
        )


def _leaps(evidence: Evidence) -> list[int]:
    return [p.interval for p in places_of(evidence) if abs(p.interval) >= LEAP_SEMITONES]
