"""Clapping or tapping the rhythm: strokes, whose pitch says nothing."""

from __future__ import annotations

from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.steps.registry import Ear, Hear, Step, register
from didactor.core.words import _, worded


def _listen(expectation: Expectation, instrument: Instrument) -> Hear:
    from didactor.core.hearing import strokes

    return strokes.hear


def _refuses(expectation: Expectation) -> str:
    return "" if expectation.notes else worded("No rhythm is written out here: let the pulse be kept instead.")


def _proposed_for(expectation: Expectation) -> int:
    return 3 if expectation.notes and all(n.unpitched for n in expectation.notes) else 1


register(
    Ear(
        slug="clap",
        title=_("clap or tap its rhythm"),
        listen=_listen,
        refuses=_refuses,
        proposed_for=_proposed_for,
        nothing_heard=("no_music", _("No strokes can be heard in this take. Check that the right microphone is chosen, and record again.")),
    ),
    Step(
        slug="clap",
        ear="clap",
        place=20,
        title=_("Clap or tap the rhythm"),
        before=_("Count and clap"),
        listen_for=("rhythm", "tempo", "flow", "other"),
    ),
)
