"""The whole ear in one call: a recording, what is expected and the targets in; evidence and findings out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from didactor.core.errors import Problem
from didactor.core.hearing import chords, many_voices, one_voice, rhythm, spoken, strokes
from didactor.core.hearing.hearing import Hearing
from didactor.core.hearing.under_clicks import doubt_under_clicks
from didactor.core.instruments import Instrument, find_instrument
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.judge import judge
from didactor.core.judging.registry import Finding, run_checks
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation, of_staff, with_choices
from didactor.core.sound.backing import Backing, without_backing
from didactor.core.sound.clicks import count_off_delay_s, without_clicks
from didactor.core.sound.gate import Quality, assess
from didactor.core.sound.recording import Recording

#: Below these shares of right notes the recording is of something else (a bad take still has most of its notes right).
OTHER_PIECE_NOTES, OTHER_PIECE_SOUNDS = 0.35, 0.5
NO_VOICE = "No voice can be heard in this take. Sit nearer to the microphone, say the names aloud, and record again."
NO_MUSIC = "No notes can be heard in this take. Check that the right microphone is chosen, and record again."
ANOTHER_PIECE = "This does not sound like the assigned passage. Check that the right recording was sent for the right bars."

#: Below this share of steady pitch, what is heard is talk.
TALK_STEADINESS = 0.55
TALK = "Talking is heard, but no playing. Check that the instrument is near the microphone, and record again."

Ear = Callable[[npt.NDArray[np.float32], Expectation, float, Instrument], Hearing | None]
Progress = Callable[[str], None]


@dataclass(frozen=True, slots=True, kw_only=True)
class Analysis:
    """Everything about one take. ``evidence`` is None where the sound was unusable; nothing is judged then."""

    expectation: Expectation
    targets: Targets
    duration_s: float
    quality: Quality
    evidence: Evidence | None
    findings: tuple[Finding, ...]


def analyse(
    recording: Recording,
    expectation: Expectation,
    targets: Targets,
    progress: Progress = lambda step: None,
    backing: Backing | None = None,
) -> Analysis:
    """Hear a recording against what is expected.

    Args:
        recording: decoded sound.
        expectation: notes in performed order.
        targets: tempo, stage and instrument.
        progress: called with a word before each step: ``quality, hearing, judging``.
        backing: the track that the recorder played along; what of it is in the recording is taken out.
    """
    expectation = with_choices(of_staff(expectation, targets.staff), targets.alternatives, targets.optional)
    progress("quality")
    quality = assess(recording)
    if quality.verdict == "unusable":
        return _unusable(recording, expectation, targets, quality)
    instrument = find_instrument(targets.instrument or expectation.instrument)
    progress("hearing")
    beat_s = expectation.bars[0].beat_quarters * 60.0 / targets.middle_qpm if expectation.bars else None
    samples, late_s = without_backing(recording.samples, backing) if backing else (recording.samples, None)
    clicks = without_clicks(samples, targets.clicks_s, beat_s)
    numbers = {**quality.numbers, "clicks": float(len(clicks.times_s))}
    quality = replace(quality, numbers=numbers if late_s is None else {**numbers, "backing_late_s": late_s})
    if late_s is None and not clicks.times_s:
        late_s = count_off_delay_s(samples, targets.clicks_s[: targets.count_off])
    targets = replace(targets, clicks_s=_as_heard(targets.clicks_s, clicks.times_s, late_s))
    ear = listen_for(expectation, targets, instrument)
    hearing = ear(clicks.samples, expectation, 60.0 / targets.middle_qpm, instrument)
    if hearing is not None and ear is strokes.hear:
        hearing = doubt_under_clicks(hearing, expectation, clicks.times_s)
    if hearing is None:
        code, text = ("no_voice", NO_VOICE) if targets.step == "say" else ("no_music", NO_MUSIC)
        return _unusable(recording, expectation, targets, _refused(quality, code, text, recording))
    if hearing.share_of_notes < OTHER_PIECE_NOTES and hearing.share_of_sounds < OTHER_PIECE_SOUNDS:
        talk = hearing.steadiness is not None and hearing.steadiness < TALK_STEADINESS
        code, text = ("speech", TALK) if talk else ("another_piece", ANOTHER_PIECE)
        return _unusable(recording, expectation, targets, _refused(quality, code, text, recording))
    progress("judging")
    levels_hold = all(p.code != "gain_riding" for p in quality.problems)
    evidence = judge(hearing, hearing.rhythm or expectation, targets, instrument, levels_hold)
    return Analysis(
        expectation=expectation,
        targets=targets,
        duration_s=recording.duration_s,
        quality=quality,
        evidence=evidence,
        findings=tuple(run_checks(evidence)),
    )


def _as_heard(known_s: tuple[float, ...], heard_s: tuple[float, ...], late_s: float | None) -> tuple[float, ...]:
    """The recorder's clicks at the times at which they were heard: devices and air delay all of them alike, as they do a backing track.

    None where neither can be heard in the take (headphones): by how much they were late is not known then.
    """
    known = np.array(known_s)
    if len(known) and len(heard_s):
        late_s = float(np.median([t - known[np.argmin(np.abs(known - t))] for t in heard_s]))
    return () if late_s is None else tuple((known + late_s).tolist())


def listen_for(expectation: Expectation, targets: Targets, instrument: Instrument) -> Ear:
    """The method of hearing that the passage and the step ask for."""
    if targets.step == "pulse" or not expectation.notes:
        return rhythm.hear
    if targets.step == "say":
        return spoken.hear
    if targets.step == "chords":
        return chords.hear
    if targets.step == "clap" or not instrument.pitched or all(n.unpitched for n in expectation.notes):
        return strokes.hear
    return many_voices.hear if _has_many_voices(expectation) else one_voice.hear


def _has_many_voices(expectation: Expectation) -> bool:
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


def _refused(quality: Quality, code: str, text: str, recording: Recording) -> Quality:
    problem = Problem(code=code, text=text, start_s=0.0, end_s=recording.duration_s)
    return replace(quality, verdict="unusable", problems=(*quality.problems, problem))


def _unusable(recording: Recording, expectation: Expectation, targets: Targets, quality: Quality) -> Analysis:
    return Analysis(expectation=expectation, targets=targets, duration_s=recording.duration_s, quality=quality, evidence=None, findings=())
