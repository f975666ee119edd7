from __future__ import annotations

from collections.abc import Iterator, Sequence

from didactor.core.judging.evidence import Evidence
from didactor.core.judging.recurring import as_finding, counts_of, places_of, recurring
from didactor.core.judging.registry import Finding, pattern
from didactor.core.words import _, worded

#: A leap is a fourth or more.
LEAP_SEMITONES = 5
UP = {
    5: _("Time and again after a fourth up: {places} of {faults} {which}, in {bars}."),
    6: _("Time and again after a tritone up: {places} of {faults} {which}, in {bars}."),
    7: _("Time and again after a fifth up: {places} of {faults} {which}, in {bars}."),
    8: _("Time and again after a sixth up: {places} of {faults} {which}, in {bars}."),
    9: _("Time and again after a sixth up: {places} of {faults} {which}, in {bars}."),
    10: _("Time and again after a seventh up: {places} of {faults} {which}, in {bars}."),
    11: _("Time and again after a seventh up: {places} of {faults} {which}, in {bars}."),
    12: _("Time and again after an octave up: {places} of {faults} {which}, in {bars}."),
}
WIDE_UP = _("Time and again after a wide leap up: {places} of {faults} {which}, in {bars}.")
DOWN = {
    5: _("Time and again after a fourth down: {places} of {faults} {which}, in {bars}."),
    6: _("Time and again after a tritone down: {places} of {faults} {which}, in {bars}."),
    7: _("Time and again after a fifth down: {places} of {faults} {which}, in {bars}."),
    8: _("Time and again after a sixth down: {places} of {faults} {which}, in {bars}."),
    9: _("Time and again after a sixth down: {places} of {faults} {which}, in {bars}."),
    10: _("Time and again after a seventh down: {places} of {faults} {which}, in {bars}."),
    11: _("Time and again after a seventh down: {places} of {faults} {which}, in {bars}."),
    12: _("Time and again after an octave down: {places} of {faults} {which}, in {bars}."),
}
WIDE_DOWN = _("Time and again after a wide leap down: {places} of {faults} {which}, in {bars}.")
LEAPS = _("Time and again after leaps: {places} of {faults} {which}, in {bars}.")


@pattern(
    code="pattern.leap",
    title=_("The same leap"),
    category="notes",
    unit="notes",
    reference="hypergeometric test of faults after one leap, and after leaps of any size",
)
def leap(evidence: Evidence, findings: Sequence[Finding]) -> Iterator[Finding]:
    """Faults come after leaps, or after one leap of the same size and direction."""
    leaps = sorted(set(_leaps(evidence)), key=lambda s: (abs(s), s))
    single = [
        (found, UP.get(size, WIDE_UP) if size > 0 else DOWN.get(-size, WIDE_DOWN))
        for size in leaps
        for found in recurring(evidence, findings, lambda p, size=size: p.interval == size)  # type: ignore[misc]
    ]
    every = [(found, LEAPS) for found in recurring(evidence, findings, lambda p: abs(p.interval) >= LEAP_SEMITONES)]
    for found, words in single or every:
        yield as_finding(
            found,
            code="pattern.leap",
            category="notes",
            text=worded(words, **counts_of(found)),
        )


def _leaps(evidence: Evidence) -> list[int]:
    return [p.interval for p in places_of(evidence) if abs(p.interval) >= LEAP_SEMITONES]
