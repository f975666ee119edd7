"""Strumming the chord symbols."""

from __future__ import annotations

from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.steps.play import is_chart
from didactor.core.steps.registry import Ear, Hear, Step, register
from didactor.core.words import _, worded


def _listen(expectation: Expectation, instrument: Instrument) -> Hear:
    from didactor.core.hearing import chords

    return chords.hear


def _refuses(expectation: Expectation) -> str:
    return "" if expectation.chords else worded("There are no chord symbols over these bars, so there is nothing to strum from.")


register(
    Ear(
        slug="chords",
        title=_("strum its chord symbols"),
        listen=_listen,
        refuses=_refuses,
        proposed_for=lambda expectation: 4 if is_chart(expectation) else 1,
        nothing_heard=("no_music", _("No strums can be heard in this take. Check that the right microphone is chosen, and record again.")),
    ),
    Step(
        slug="chords",
        ear="chords",
        place=80,
        title=_("Strum the chords"),
        before=_("The chord changes alone"),
        listen_for=("notes", "rhythm", "flow", "other"),
    ),
)
