from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence, Zone
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, worded

LEVELS = {"ppp": 0, "pp": 1, "p": 2, "mp": 3, "mf": 4, "f": 5, "ff": 6, "fff": 7}
#: Marks this many steps apart should differ by at least so much; below, listeners hear no difference.
STEPS, LEAST_DB = 2, 2.0
FEWEST_NOTES = 6


@check(
    code="dynamics.flat",
    title=_("Loud and soft alike"),
    category="dynamics",
    unit="dB",
    reference="median level under the loudest against the softest mark",
)
def flat_dynamics(evidence: Evidence) -> Iterator[Finding]:
    """What is marked loud is hardly louder than what is marked soft."""
    zones = [z for z in evidence.zones or () if z.marked in LEVELS]
    if not zones or evidence.targets.stage == "first_reading":
        return
    low, high = (pick(LEVELS[z.marked] for z in zones) for pick in (min, max))
    if high - low < STEPS:
        return
    soft, loud = ([z for z in zones if LEVELS[z.marked] == level] for level in (low, high))
    if min(sum(z.notes for z in group) for group in (soft, loud)) < FEWEST_NOTES:
        return
    contrast = _level(loud) - _level(soft)
    if contrast >= LEAST_DB:
        return
    yield Finding(
        code="dynamics.flat",
        category="dynamics",
        text=worded(
            "Loud and soft hardly differ: {marked} (bar {from_bar}) against {marked_2} (bar {from_bar_2}).",
            marked=loud[0].marked,
            from_bar=loud[0].from_bar,
            marked_2=soft[0].marked,
            from_bar_2=soft[0].from_bar,
        ),
        confidence=0.7,
        severity=4.5,
        size=contrast,
        unit="dB",
    )


def _level(zones: list[Zone]) -> float:
    return sum(z.db * z.notes for z in zones) / sum(z.notes for z in zones)
