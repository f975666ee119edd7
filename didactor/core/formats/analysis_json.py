"""An ``Analysis`` as the ``Result`` that is stored, and as JSON. The contract is ``analysis.schema.json`` beside this file."""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path
from typing import Any

from didactor.core.analyse import Analysis
from didactor.core.engine import engine_version
from didactor.core.formats.result import (
    BendHeard,
    ChordHeard,
    CountHeard,
    CurvePoint,
    EntryHeard,
    ExtraResult,
    FindingResult,
    HandHeard,
    JumpBack,
    LoudnessHeard,
    NoteResult,
    PairHeard,
    Pause,
    PulseHeard,
    Result,
    SkippedBar,
    Sound,
    SoundProblem,
    SoundQuality,
    TempoHeard,
    TuningHeard,
    ZoneHeard,
)
from didactor.core.judging.evidence import Evidence, NoteJudgement
from didactor.core.judging.registry import Finding

SCHEMA_PATH = Path(__file__).with_name("analysis.schema.json")


@cache
def schema() -> dict[str, Any]:
    """The JSON Schema of the results."""
    loaded: dict[str, Any] = json.loads(SCHEMA_PATH.read_text())
    return loaded


def analysis_to_json(analysis: Analysis) -> dict[str, Any]:
    """Plain values for a file or a database column."""
    return result_of(analysis).to_json()


def result_of(analysis: Analysis) -> Result:
    """What is kept of an analysis."""
    quality = analysis.quality
    problems = tuple(SoundProblem(code=p.code, text=p.text, start_s=p.start_s, end_s=p.end_s) for p in quality.problems)
    sound = Sound(
        duration_s=analysis.duration_s, quality=SoundQuality(verdict=quality.verdict, problems=problems, numbers=dict(quality.numbers))
    )
    evidence = analysis.evidence
    if evidence is None:
        return Result(engine_version=engine_version(), audio=sound, targets=analysis.targets)
    tuning, zones, chords, count = evidence.tuning, evidence.zones, evidence.chords, evidence.count
    return Result(
        engine_version=engine_version(),
        audio=sound,
        targets=analysis.targets,
        tuning=None if tuning is None else TuningHeard(a4_hz=tuning.a4_hz, offset_cents=tuning.offset_cents),
        tempo=_tempo(evidence),
        pulse=_pulse(evidence),
        # A rhythm that was heard, not written, has no notes to be right or wrong.
        notes=None if evidence.inferred else tuple(map(_note, evidence.notes)),
        hands=_hands(evidence),
        loudness=None
        if zones is None
        else LoudnessHeard(zones=tuple(ZoneHeard(from_bar=z.from_bar, to_bar=z.to_bar, marked=z.marked, db=z.db) for z in zones)),
        chords=None
        if chords is None
        else tuple(
            ChordHeard(
                bar=c.note.bar,
                pass_=c.note.pass_,
                beat=c.note.beat,
                written=c.written,
                heard=c.heard,
                status=c.status,
                confidence=c.confidence,
            )
            for c in chords
        ),
        count=None if count is None else CountHeard(written=count.written, played=count.played),
        extra=tuple(ExtraResult(onset_s=e.onset_s, midi=e.midi, bar=e.bar, pass_=e.pass_, beat=e.beat) for e in evidence.extra),
        findings=tuple(map(_finding, analysis.findings)),
    )


def _tempo(evidence: Evidence) -> TempoHeard:
    tempo, targets = evidence.tempo, evidence.targets
    return TempoHeard(
        target_qpm=targets.tempo_qpm,
        target_to_qpm=targets.tempo_to_qpm,
        played_qpm=tempo.played_qpm,
        deviation_percent=tempo.deviation_percent,
        band_percent=targets.band,
        verdict=tempo.verdict,
        drift_percent_per_bar=tempo.drift_percent_per_bar,
        curve=tuple(CurvePoint(bar=p.bar, pass_=p.pass_, beat=p.beat, time_s=p.time_s, qpm=p.qpm) for p in tempo.curve),
    )


def _pulse(evidence: Evidence) -> PulseHeard:
    notes = evidence.expectation.notes
    pairs = tuple(PairHeard(bar=p.bar, pass_=p.pass_, beat=p.beat, ratio_percent=p.ratio_percent) for p in evidence.pairs)
    return PulseHeard(
        hesitations=tuple(
            Pause(
                bar=h.bar,
                pass_=h.pass_,
                beat=h.beat,
                time_s=h.time_s,
                extra_quarters=h.extra_quarters,
                extra_s=h.extra_s,
                note_id=notes[h.note_index].id,
            )
            for h in evidence.hesitations
        ),
        restarts=tuple(
            JumpBack(time_s=r.time_s, from_bar=r.from_bar, to_bar=r.to_bar, note_id=notes[r.to_index].id) for r in evidence.restarts
        ),
        skipped_bars=tuple(SkippedBar(bar=bar, pass_=pass_) for bar, pass_ in evidence.skipped_bars),
        bends=tuple(
            BendHeard(from_bar=b.bars[0][0], to_bar=b.bars[-1][0], pass_=b.bars[0][1], share=b.share, start_s=b.start_s, end_s=b.end_s)
            for b in evidence.bends
        ),
        evenness=None if evidence.targets.stage_rules.placement is None else pairs,
        entry=None if evidence.entry is None else EntryHeard(early_late_quarters=evidence.entry.early_late_quarters),
    )


def _hands(evidence: Evidence) -> tuple[HandHeard, ...] | None:
    if evidence.hands is None:
        return None
    return tuple(
        HandHeard(
            staff=h.staff,
            asynchrony_ms=h.asynchrony_ms,
            early_late_ms=h.early_late_ms,
            together=h.together,
            balance_db=h.balance_db,
        )
        for h in evidence.hands
    )


def _note(item: NoteJudgement) -> NoteResult:
    note = item.note
    return NoteResult(
        id=note.id,
        bar=note.bar,
        pass_=note.pass_,
        beat=note.beat,
        part=note.part,
        staff=note.staff,
        written_pitch=note.written_pitch,
        sounding_midi=note.sounding_midi,
        status=item.status,
        reason=item.reason,
        confidence=item.confidence,
        onset_s=item.onset_s,
        offset_s=item.offset_s,
        heard_midi=item.heard_midi,
        cents=item.cents,
        early_late_ms=item.early_late_ms,
        early_late_quarters=item.early_late_quarters,
        length_ratio=item.length_ratio,
        loudness_db=item.loudness_db,
    )


def _finding(finding: Finding) -> FindingResult:
    return FindingResult(
        code=finding.code,
        category=finding.category,
        bar=finding.bar,
        pass_=finding.pass_,
        beat=finding.beat,
        note_ids=finding.note_ids,
        size=finding.size,
        unit=finding.unit,
        confidence=finding.confidence,
        text=finding.text,
        start_s=finding.start_s,
        end_s=finding.end_s,
    )
