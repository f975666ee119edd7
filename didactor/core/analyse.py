"""The whole ear in one call: a recording, what is expected and the targets in; evidence and findings out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from didactor.core.errors import PassageError, Problem
from didactor.core.hearing.count_off import find_count_off
from didactor.core.hearing.hearing import Hearing
from didactor.core.hearing.under_clicks import all_clicks, doubt_under_clicks
from didactor.core.instruments import find_instrument
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.judge import judge
from didactor.core.judging.readings_of_sound import Opening, opening_after
from didactor.core.judging.registry import Finding, run_checks
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation, of_staff, with_choices
from didactor.core.sound.backing import Backing, without_backing
from didactor.core.sound.clicks import count_off_delay_s, without_clicks
from didactor.core.sound.gate import Quality, assess
from didactor.core.sound.recording import Recording
from didactor.core.steps import ear_of
from didactor.core.words import _

#: Below these shares of right notes the recording is of something else (a bad take still has most of its notes right).
OTHER_PIECE_NOTES, OTHER_PIECE_SOUNDS = 0.35, 0.5
ANOTHER_PIECE = _("This does not sound like the assigned passage. Check that the right recording was sent for the right bars.")

#: Below this share of steady pitch, what is heard is talk.
TALK_STEADINESS = 0.55
TALK = _("Talking is heard, but no playing. Check that the instrument is near the microphone, and record again.")

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

    Raises:
        PassageError: the passage cannot have this step (a chart of chords has no notes to play), or the hand has nothing to play.
    """
    ear = ear_of(targets.step)
    refusal = ear.refuses(expectation)
    if refusal:
        raise PassageError("passage.step", refusal)
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
    told, unheard = bool(targets.clicks_s), targets.late_s if late_s is None and not clicks.times_s else None
    counted_s = targets.clicks_s[: targets.count_off]
    targets = replace(targets, clicks_s=_as_heard(targets.clicks_s, clicks.times_s, late_s))
    hearing = ear.listen(expectation, instrument)(clicks.samples, expectation, 60.0 / targets.middle_qpm, instrument)
    if hearing is None:
        return _unusable(recording, expectation, targets, _refused(quality, *ear.nothing_heard, recording))
    if hearing.of_strokes:
        hearing = doubt_under_clicks(hearing, expectation, all_clicks(hearing, clicks.times_s, beat_s) if beat_s else clicks.times_s)
    if hearing.share_of_notes < OTHER_PIECE_NOTES and hearing.share_of_sounds < OTHER_PIECE_SOUNDS:
        talk = hearing.steadiness is not None and hearing.steadiness < TALK_STEADINESS
        code, text = ("speech", TALK) if talk else ("another_piece", ANOTHER_PIECE)
        return _unusable(recording, expectation, targets, _refused(quality, code, text, recording))
    progress("judging")
    levels_hold = all(p.code != "gain_riding" for p in quality.problems)
    if unheard is not None:
        # In headphones nothing of it is in the recording; the device is known to be so late.
        late_s, counted_s = unheard, tuple(t + unheard for t in counted_s)
    else:
        counted_s = targets.clicks_s[: targets.count_off]
    opening = _opening(hearing, expectation, replace(targets, clicks_s=counted_s), None if told else samples, backing, late_s)
    evidence = judge(hearing, expectation, targets, instrument, levels_hold, opening)
    return Analysis(
        expectation=expectation,
        targets=targets,
        duration_s=recording.duration_s,
        quality=quality,
        evidence=evidence,
        findings=tuple(run_checks(evidence)),
    )


def _opening(
    hearing: Hearing,
    expectation: Expectation,
    targets: Targets,
    samples: npt.NDArray[np.float32] | None,
    backing: Backing | None,
    late_s: float | None,
) -> Opening | None:
    """When the passage was due to begin: by the accompaniment's own timeline, by the clicks of the recorder, or by a count-off that is
    heard in a recording of which nobody told. None where none of them can be heard: by how much they came late is not known then.
    """
    quarter_s = 60.0 / targets.middle_qpm
    if backing is not None:
        if backing.enters_s is None or late_s is None:
            return None
        return Opening(start_s=backing.at_s + late_s + backing.enters_s, quarter_s=quarter_s, goes_on=True)
    if targets.count_off < 2 or not expectation.bars:
        return None
    counted = targets.clicks_s[: targets.count_off]
    if samples is not None and hearing.notes and hearing.notes[0].onset_s is not None:
        beat = expectation.bars[0].beat_quarters
        pickup = expectation.pickup_quarters / beat
        counted = find_count_off(samples, hearing.notes[0].onset_s, quarter_s * beat, targets.count_off, pickup)
    return opening_after(counted, expectation) if len(counted) == targets.count_off else None


def _as_heard(known_s: tuple[float, ...], heard_s: tuple[float, ...], late_s: float | None) -> tuple[float, ...]:
    """The recorder's clicks at the times at which they were heard: devices and air delay all of them alike, as they do a backing track.

    None where neither can be heard in the take (headphones): by how much they were late is not known then.
    """
    known = np.array(known_s)
    if len(known) and len(heard_s):
        late_s = float(np.median([t - known[np.argmin(np.abs(known - t))] for t in heard_s]))
    return () if late_s is None else tuple((known + late_s).tolist())


def _refused(quality: Quality, code: str, text: str, recording: Recording) -> Quality:
    problem = Problem(code=code, text=text, start_s=0.0, end_s=recording.duration_s)
    return replace(quality, verdict="unusable", problems=(*quality.problems, problem))


def _unusable(recording: Recording, expectation: Expectation, targets: Targets, quality: Quality) -> Analysis:
    return Analysis(expectation=expectation, targets=targets, duration_s=recording.duration_s, quality=quality, evidence=None, findings=())
