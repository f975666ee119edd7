from __future__ import annotations

from collections.abc import Iterator, Sequence

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.recurring import MOST_CHANCE, Place, Recurring, as_finding, bars_in_words, places_of
from didactor.core.judging.registry import Finding, pattern
from didactor.core.words import _, worded

#: A skip is a third, a step a second; so many skips read as steps make a habit, and this share of the wrong notes after skips.
SKIP, STEP = (3, 4), (1, 2)
FEWEST, LEAST_SHARE = 2, 0.75


@pattern(
    code="pattern.skip_as_step",
    title=_("Skips read as steps"),
    category="notes",
    unit="notes",
    reference="heard interval from the note before: a second where a third is written",
)
def skip_as_step(evidence: Evidence, findings: Sequence[Finding]) -> Iterator[Finding]:
    """A third on the page is played as a second, the same way: the eye reads line to line as line to space."""
    wrong = [p for p in places_of(evidence) if p.item.status is Status.WRONG_PITCH and p.before is not None and abs(p.interval) in SKIP]
    read = [p for p in wrong if _is_step(p)]
    if len(read) < FEWEST or len(read) < LEAST_SHARE * len(wrong):
        return
    found = Recurring(code="notes.wrong", places=tuple(read), faults=len(wrong), chance=MOST_CHANCE)
    yield as_finding(
        found,
        code="pattern.skip_as_step",
        category="notes",
        text=worded("Skips are read as steps: {read} thirds sound as seconds, in {bars}.", read=len(read), bars=bars_in_words(found)),
    )


def _is_step(place: Place) -> bool:
    heard, before = place.item.heard_midi, place.before
    if heard is None or before is None or before.heard_midi is None or before.status is not Status.CORRECT:
        return False
    played = heard - before.heard_midi
    return abs(played) in STEP and played * place.interval > 0
