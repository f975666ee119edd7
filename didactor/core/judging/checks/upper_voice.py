from __future__ import annotations

from collections.abc import Iterator

from didactor.core.judging.evidence import Evidence, Hand
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, worded

#: Two pieces of evidence are added: the upper voice's level below the lower (even touch measures down to -5 dB on some instruments), and
#: how much less clearly its notes begin. Each is counted in units of what is unusual by itself; both must point the same way.
UNUSUAL_DB, UNUSUAL_CLEARNESS, COVERED_FROM = 6.0, 0.2, 2.0
LEAST_DB, LEAST_CLEARNESS = 2.0, 0.08
#: Where the levels cannot be told apart, clearness alone must say it.
CLEARNESS_ALONE = 0.28


@check(
    code="dynamics.upper_voice",
    title=_("Upper voice covered"),
    category="dynamics",
    unit="dB",
    reference="the upper staff's highest note against the lower staff, where both begin: median level, A-weighted, and clearness of onset",
)
def upper_voice(evidence: Evidence) -> Iterator[Finding]:
    """The lower voice is louder than the upper one nearly everywhere (melodies are led by 3-10 dB; Repp 1996)."""
    if not evidence.hands or evidence.targets.stage == "first_reading":
        return
    # What is even was measured on keys; how loud the strings of a plucked instrument are beside each other is not the player's doing alone.
    if evidence.instrument.fingering != "keyboard":
        return
    upper = evidence.hands[0]
    if not is_covered(upper):
        return
    yield Finding(
        code="dynamics.upper_voice",
        category="dynamics",
        text=worded("The lower voice covers the upper one. Let the melody lead.")
        if upper.balance_db is None
        else worded(
            "The lower voice covers the upper one: it is about {louder:.0f} dB louder. Let the melody lead.", louder=-upper.balance_db
        ),
        confidence=0.7,
        severity=4.4,
        size=upper.balance_db,
        unit="dB",
    )


def is_covered(upper: Hand) -> bool:
    """Whether the upper of two voices is so much softer and less clear than the lower that the melody is lost."""
    if upper.clearer is None:
        return False
    if upper.balance_db is None:
        return -upper.clearer >= CLEARNESS_ALONE
    softer, vaguer = -upper.balance_db, -upper.clearer
    return softer >= LEAST_DB and vaguer >= LEAST_CLEARNESS and softer / UNUSUAL_DB + vaguer / UNUSUAL_CLEARNESS >= COVERED_FROM
