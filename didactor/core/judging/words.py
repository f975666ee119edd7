"""Places and pitches in words. On screen beats are metrical and start at 1; in data they are quarters from 0."""

from __future__ import annotations

from didactor.core.score.expected import Expectation, ExpectedNote
from didactor.core.score.spelling import pitch_name
from didactor.core.words import _, note_name, worded

_AGAIN = {
    2: _("{bar} (second time)"),
    3: _("{bar} (third time)"),
}
_FOURTH = _("{bar} (fourth time)")


def pitch_in_words(written: str) -> str:
    """``Eb4`` to “E flat”; the octave is left out."""
    return note_name(written)


def midi_in_words(midi: int, fifths: int = 0) -> str:
    """A MIDI number to a plain name without an octave, spelled as a reader in that key would."""
    return pitch_in_words(pitch_name(midi, fifths))


def heard_in_words(heard_midi: int, note: ExpectedNote, fifths: int) -> str:
    """A heard pitch as the player would call it: as written, in the bar's key, with the octave named if only it differs."""
    written_midi = heard_midi - (note.sounding_midi - _written_midi(note))
    distance = heard_midi - note.sounding_midi
    if distance % 12 == 0 and distance:
        return (
            worded("{pitch} an octave higher", pitch=pitch_in_words(note.written_pitch))
            if distance > 0
            else worded("{pitch} an octave lower", pitch=pitch_in_words(note.written_pitch))
        )
    return midi_in_words(written_midi, fifths)


def _written_midi(note: ExpectedNote) -> int:
    from didactor.core.units import pitch_to_midi

    name = note.written_pitch
    alter = {"bb": -2, "b": -1, "": 0, "#": 1, "##": 2}[name[1:-1]]
    return pitch_to_midi(name[0], alter, int(name[-1]))


def beat_in_words(beat_quarters: float, metrical_beat_quarters: float) -> str:
    """A position in quarters from the bar's start to the beat as it is counted: 0 to ``1``, 1.5 to ``2½``."""
    position = 1 + beat_quarters / metrical_beat_quarters
    whole = int(position + 1e-6)
    part = position - whole
    for value, sign in ((0.0, ""), (0.5, "½"), (0.25, "¼"), (0.75, "¾"), (1 / 3, "⅓"), (2 / 3, "⅔")):
        if abs(part - value) < 0.02:
            return f"{whole}{sign}"
    return worded("{position:.1f}", position=position)


def place_in_words(expectation: Expectation, note: ExpectedNote) -> str:
    """“Bar 14, beat 2” with the pass where a bar is played more than once."""
    bar, beat = bar_and_beat(expectation, note)
    return worded("Bar {bar}, beat {beat}", bar=bar, beat=beat)


def bar_and_beat(expectation: Expectation, note: ExpectedNote) -> tuple[str, str]:
    """“14” with its pass where there are several, and “2½”."""
    beat = beat_in_words(note.beat, expectation.bar_at(note.onset_quarters).beat_quarters)
    return bar_in_words(expectation, note.bar, note.pass_), beat


def bar_in_words(expectation: Expectation, bar: str, pass_: int) -> str:
    """“14”, or “14 (second time)” where a bar is played more than once."""
    again = any(b.number == bar and b.pass_ > 1 for b in expectation.bars)
    return bar if not again else worded("{bar} (first time)", bar=bar) if pass_ == 1 else worded(_AGAIN.get(pass_, _FOURTH), bar=bar)
