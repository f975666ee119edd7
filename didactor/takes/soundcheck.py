"""A few seconds heard before anything is recorded: is the sound usable, and what should change? Nothing of it is kept."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass, replace

from didactor.core.errors import AudioError
from didactor.core.hearing.one_tone import cents_off
from didactor.core.sound.clicks import count_off_delay_s
from didactor.core.sound.gate import assess
from didactor.core.sound.recording import RATE_HZ, open_recording
from didactor.core.words import _, worded

#: Some ten seconds of sound in the best that browsers give.
MOST_BYTES = 4 * 1024 * 1024
#: Said of takes, not of a few seconds cut out of playing.
OF_WHOLE_TAKES = {"too_short", "begins_late", "ends_early"}
#: What takes are told in other words.
WORDS = {
    "silent": _("No sound came in. Is another microphone chosen, or is this one muted? Choose another input and check again."),
    "too_quiet": _("Very quiet. Move closer to the microphone or turn its level up."),
}
#: What the device played rings on so long in a room.
AFTER_CLICKS_S = 0.5
#: Within so many cents nobody hears a difference from the tone that was given.
IN_TUNE_CENTS = 5.0
GOOD = _("Loud enough, clean and clear: this will do.")


@dataclass(frozen=True, kw_only=True)
class SoundCheck:
    """``good``: nothing stands in the way. ``says``: sentences on what was heard and what to change. ``late_s``: by how much the clicks
    that the device played come late in what it recorded; None where they cannot be heard, as with headphones.
    """

    good: bool
    says: tuple[str, ...]
    late_s: float | None = None


def check_sound(file: bytes, clicks_s: tuple[float, ...] = ()) -> SoundCheck:
    """Judge a few seconds of playing as a take's sound is judged. Raises ``AudioError`` for what is no sound.

    Args:
        clicks_s: when the device clicked in it, before anybody played: what comes up to the last one is not judged.
    """
    with tempfile.TemporaryFile() as source:
        source.write(file)
        source.flush()
        recording = open_recording(source)
    late_s = count_off_delay_s(recording.samples, clicks_s) if clicks_s else None
    played = recording.samples[int((clicks_s[-1] + AFTER_CLICKS_S) * RATE_HZ) :] if clicks_s else recording.samples
    shift_s = recording.duration_s - len(played) / RATE_HZ
    quality = assess(
        replace(recording, samples=played, clipped_s=_later(recording.clipped_s, shift_s), gaps_s=_later(recording.gaps_s, shift_s))
    )
    problems = [problem for problem in quality.problems if problem.code not in OF_WHOLE_TAKES]
    if not problems and quality.verdict == "unusable":
        raise AudioError("audio.too_short", worded("That was too short to judge. Play for a few seconds."))
    says = tuple(dict.fromkeys(WORDS.get(p.code, p.text) for p in problems)) or (GOOD,)
    return SoundCheck(good=not problems, says=says, late_s=late_s)


def _later(spans: tuple[tuple[float, float], ...], shift_s: float) -> tuple[tuple[float, float], ...]:
    """Spans in what is left when the beginning is cut away."""
    return tuple((start - shift_s, end - shift_s) for start, end in spans if start >= shift_s)


@dataclass(frozen=True, kw_only=True)
class Tuned:
    """A held tone beside the one that was given: ``cents`` above it, and what that is called."""

    cents: float

    @property
    def called(self) -> str:
        if abs(self.cents) <= IN_TUNE_CENTS:
            return "in tune"
        return "flat" if self.cents < 0 else "sharp"


def check_tone(file: bytes, midi: int) -> Tuned | None:
    """How a tone that was played lies to the one given; None where no such tone is heard. Raises ``AudioError`` for what is no sound."""
    with tempfile.TemporaryFile() as source:
        source.write(file)
        source.flush()
        cents = cents_off(open_recording(source).samples, midi)
    return None if cents is None else Tuned(cents=cents)
