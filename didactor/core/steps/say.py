"""Saying the names of the notes in time: only the pace is listened to (docs/decisions/0017-names-said-in-time.md)."""

from __future__ import annotations

from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.steps.registry import Ear, Hear, Step, register
from didactor.core.words import _, worded


def _listen(expectation: Expectation, instrument: Instrument) -> Hear:
    from didactor.core.hearing import spoken

    return spoken.hear


def _refuses(expectation: Expectation) -> str:
    return "" if any(not n.unpitched for n in expectation.notes) else worded("There are no notes here whose names could be said.")


register(
    Ear(
        slug="say",
        title=_("say the names of its notes in time"),
        listen=_listen,
        refuses=_refuses,
        proposed_for=lambda expectation: 0,
        sounds="names",
        note_by_note=False,
        lanes=("tempo",),
        nothing_heard=(
            "no_voice",
            _("No voice can be heard in this take. Sit nearer to the microphone, say the names aloud, and record again."),
        ),
        explains=_("Of names said in time only the pace is listened to: the tempo, and where the voice stops."),
    ),
    Step(
        slug="name",
        ear="say",
        place=30,
        before=_("Say the names in time"),
        listen_for=("notes", "tempo", "flow", "other"),
    ),
)
