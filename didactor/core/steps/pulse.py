"""Only the pulse: where no notation is at hand, or none is to be judged."""

from __future__ import annotations

from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.steps.registry import Ear, Hear, Step, register
from didactor.core.words import _


def _listen(expectation: Expectation, instrument: Instrument) -> Hear:
    from didactor.core.hearing import rhythm

    return rhythm.hear


register(
    Ear(
        slug="pulse",
        title=_("keep its pulse; no note is judged"),
        listen=_listen,
        refuses=lambda expectation: "",
        proposed_for=lambda expectation: 1 if expectation.notes else 5,
        lanes=("tempo",),
    ),
    Step(slug="pulse", ear="pulse", place=110, title=_("Keep the pulse; notes are not judged")),
)
