"""The whole ear in one call: a recording, what is expected and the targets in; evidence and findings out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from didactor.core.errors import Problem
from didactor.core.hearing.alignment import Alignment, align
from didactor.core.hearing.events import Event, find_events, find_tuning
from didactor.core.hearing.features import listen
from didactor.core.instruments import find_instrument
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.judge import Heard, judge
from didactor.core.judging.registry import Finding, run_checks
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation, ExpectedNote
from didactor.core.sound.gate import Quality, assess
from didactor.core.sound.recording import Recording

#: Cost per note above which a constant shift of everything is considered, and how much cheaper it must be.
SHIFT_FROM_COST, SHIFT_GAIN = 0.3, 0.5
#: Below these shares of right notes the recording is of something else (a bad take still has most of its notes right).
OTHER_PIECE_NOTES, OTHER_PIECE_EVENTS = 0.35, 0.5
MIN_VOICED_SHARE = 0.03

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


def analyse(recording: Recording, expectation: Expectation, targets: Targets, progress: Progress = lambda step: None) -> Analysis:
    """Hear a recording against what is expected.

    Args:
        recording: decoded sound.
        expectation: notes in performed order.
        targets: tempo, stage and instrument.
        progress: called with a word before each step: ``quality, hearing, aligning, judging``.
    """
    progress("quality")
    quality = assess(recording)
    if quality.verdict == "unusable":
        return _unusable(recording, expectation, targets, quality)
    instrument = find_instrument(targets.instrument or expectation.instrument)
    progress("hearing")
    features = listen(recording.samples, instrument)
    tuning_cents, concentration = find_tuning(features)
    events = find_events(features, instrument, tuning_cents)
    if float((features.voicing > 0.6).mean()) < MIN_VOICED_SHARE or not events:
        problem = Problem(
            code="no_music",
            text="No notes can be heard in this take. Check that the right microphone is chosen, and record again.",
            start_s=0.0,
            end_s=recording.duration_s,
        )
        return _unusable(recording, expectation, targets, replace(quality, verdict="unusable", problems=(*quality.problems, problem)))
    progress("aligning")
    alignment, shift = _align_with_shift(events, expectation, targets)
    if _is_other_piece(events, expectation, alignment, shift):
        problem = Problem(
            code="another_piece",
            text="This does not sound like the assigned passage. Check that the right recording was sent for the right bars.",
            start_s=0.0,
            end_s=recording.duration_s,
        )
        return _unusable(recording, expectation, targets, replace(quality, verdict="unusable", problems=(*quality.problems, problem)))
    progress("judging")
    heard = Heard(
        features=features,
        events=tuple(events),
        alignment=alignment,
        tuning_cents=tuning_cents,
        tuning_concentration=concentration,
        shift=shift,
    )
    evidence = judge(heard, expectation, targets, instrument)
    return Analysis(
        expectation=expectation,
        targets=targets,
        duration_s=recording.duration_s,
        quality=quality,
        evidence=evidence,
        findings=tuple(run_checks(evidence)),
    )


def _unusable(recording: Recording, expectation: Expectation, targets: Targets, quality: Quality) -> Analysis:
    return Analysis(expectation=expectation, targets=targets, duration_s=recording.duration_s, quality=quality, evidence=None, findings=())


def _align_with_shift(events: list[Event], expectation: Expectation, targets: Targets) -> tuple[Alignment, int]:
    """Align as written; when that is poor, also an octave off and untransposed, and keep what explains it far better."""
    seconds = 60.0 / targets.middle_qpm
    best, best_shift = align(events, expectation.notes, seconds), 0
    if best.cost_per_note <= SHIFT_FROM_COST:
        return best, 0
    written = best
    for shift in dict.fromkeys((12, -12, -expectation.transposition, 24, -24)):
        if shift == 0:
            continue
        moved: list[ExpectedNote] = [
            replace(n, sounding_midi=n.sounding_midi + shift, alternatives=tuple(a + shift for a in n.alternatives))
            for n in expectation.notes
        ]
        candidate = align(events, moved, seconds, guesses=(1.0,))
        if candidate.cost_per_note < min(best.cost_per_note, SHIFT_GAIN * written.cost_per_note):
            best, best_shift = candidate, shift
    return best, best_shift


def _is_other_piece(events: list[Event], expectation: Expectation, alignment: Alignment, shift: int) -> bool:
    right = sum(
        1 for match in alignment.matches if any(events[match.event].midi == p + shift for p in expectation.notes[match.note].pitches)
    )
    distinct = len({m.note for m in alignment.matches})
    share_of_notes = min(right, distinct) / len(expectation.notes)
    solid = [e for e in events if not e.soft and e.duration_s > 0.1 and e.voicing > 0.7]
    share_of_events = right / max(1, len(solid))
    return share_of_notes < OTHER_PIECE_NOTES and share_of_events < OTHER_PIECE_EVENTS
