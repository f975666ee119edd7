"""Playing the notes: one voice or many, or strokes where the instrument or the notes have no pitch."""

from __future__ import annotations

from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation
from didactor.core.steps.registry import Ear, Hear, Step, register
from didactor.core.words import _, worded


def _listen(expectation: Expectation, instrument: Instrument) -> Hear:
    from didactor.core.hearing import many_voices, one_voice, strokes

    if not instrument.pitched or all(n.unpitched for n in expectation.notes):
        return strokes.hear
    return many_voices.hear if has_many_voices(expectation) else one_voice.hear


def has_many_voices(expectation: Expectation) -> bool:
    """Whether notes are written to sound together. What one voice only seems to hold over (a rounding) does not count."""
    ends: dict[int, float] = {}
    for note in expectation.notes:
        if note.grace:
            continue
        together = [end for pitch, end in ends.items() if pitch != note.sounding_midi and end > note.onset_quarters + 0.05]
        if together:
            return True
        ends[note.sounding_midi] = note.onset_quarters + note.duration_quarters
    return False


def _refuses(expectation: Expectation) -> str:
    if not expectation.notes:
        return worded("Nothing is written out here, so no note can be judged: let the pulse be kept instead.")
    if is_chart(expectation):
        return worded("These bars are a chart of chords, without notes to play: let the chords be strummed, or the rhythm clapped.")
    return ""


def is_chart(expectation: Expectation) -> bool:
    """Whether the passage is strokes under chord symbols, and nothing else."""
    return bool(expectation.chords) and all(n.unpitched for n in expectation.notes)


register(
    Ear(slug="play", title=_("play it"), listen=_listen, refuses=_refuses, proposed_for=lambda _: 2, sounds="notes"),
    Step(slug="play", ear="play", place=0, title=_("Play it")),
    Step(slug="right", ear="play", place=60, title=_("Play the right hand alone"), before=_("Right hand alone"), staff=1),
    Step(slug="left", ear="play", place=70, title=_("Play the left hand alone"), before=_("Left hand alone"), staff=2),
    Step(slug="easy", ear="play", place=50, before=_("An easier way of sounding, as plucked before bowed")),
)
