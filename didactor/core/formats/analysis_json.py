"""An ``Analysis`` as JSON. The contract is ``analysis.schema.json`` beside this file.

``beat`` and ``extra_beats`` are quarters, beats from 0 at the bar's start. What was not judged is null, never an empty list.
"""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path
from typing import Any

from didactor.core import ENGINE_VERSION
from didactor.core.analyse import Analysis
from didactor.core.judging.evidence import Evidence, NoteJudgement

SCHEMA_NAME = "didactor-analysis-1"
SCHEMA_PATH = Path(__file__).with_name("analysis.schema.json")


@cache
def schema() -> dict[str, Any]:
    """The JSON Schema of the results."""
    loaded: dict[str, Any] = json.loads(SCHEMA_PATH.read_text())
    return loaded


def _round(value: float | None, digits: int = 3) -> float | None:
    return None if value is None else round(float(value), digits)


def analysis_to_json(analysis: Analysis) -> dict[str, Any]:
    """Plain values for a file or a database column."""
    evidence = analysis.evidence
    result: dict[str, Any] = {
        "schema": SCHEMA_NAME,
        "engine_version": ENGINE_VERSION,
        "audio": {
            "duration_s": _round(analysis.duration_s),
            "quality": {
                "verdict": analysis.quality.verdict,
                "problems": [
                    {"code": p.code, "start_s": _round(p.start_s), "end_s": _round(p.end_s), "text": p.text}
                    for p in analysis.quality.problems
                ],
                "numbers": analysis.quality.numbers,
            },
        },
        "targets": analysis.targets.to_json(),
        "tuning": None,
        "tempo": None,
        "pulse": None,
        "notes": None,
        "hands": None,
        "loudness": None,
        "chords": None,
        "count": None,
        "extra": None,
        "findings": None,
    }
    if evidence is None:
        return result
    if evidence.tuning is not None:
        result["tuning"] = {"a4_hz": _round(evidence.tuning.a4_hz, 2), "offset_cents": _round(evidence.tuning.offset_cents, 1)}
    result["tempo"] = _tempo(evidence)
    result["pulse"] = _pulse(evidence)
    # A rhythm that was heard, not written, has no notes to be right or wrong.
    result["notes"] = None if evidence.inferred else [_note(item) for item in evidence.notes]
    result["hands"] = _hands(evidence)
    result["loudness"] = _loudness(evidence)
    result["chords"] = _chords(evidence)
    if evidence.count is not None:
        result["count"] = {"written": evidence.count.written, "played": evidence.count.played}
    result["extra"] = [
        {"onset_s": _round(e.onset_s), "midi": e.midi, "bar": e.bar, "pass": e.pass_, "beat": _round(e.beat)} for e in evidence.extra
    ]
    result["findings"] = [
        {
            "code": f.code,
            "category": f.category,
            "bar": f.bar,
            "pass": f.pass_,
            "beat": _round(f.beat),
            "note_ids": list(f.note_ids),
            "size": _round(f.size),
            "unit": f.unit,
            "confidence": _round(f.confidence),
            "text": f.text,
            "start_s": _round(f.start_s),
            "end_s": _round(f.end_s),
        }
        for f in analysis.findings
    ]
    return result


def _tempo(evidence: Evidence) -> dict[str, Any]:
    tempo = evidence.tempo
    return {
        "target_bpm": _round(evidence.targets.tempo_qpm, 2),
        "target_to_bpm": _round(evidence.targets.tempo_to_qpm, 2),
        "played_bpm": _round(tempo.played_qpm, 2),
        "deviation_percent": _round(tempo.deviation_percent, 2),
        "band_percent": _round(evidence.targets.band, 2),
        "verdict": tempo.verdict,
        "drift_percent_per_bar": _round(tempo.drift_percent_per_bar),
        "curve": [
            {"bar": p.bar, "pass": p.pass_, "beat": _round(p.beat), "time_s": _round(p.time_s), "bpm": _round(p.qpm, 2)}
            for p in tempo.curve
        ],
    }


def _pulse(evidence: Evidence) -> dict[str, Any]:
    judged = evidence.targets.stage_rules.placement is not None
    return {
        "hesitations": [
            {
                "bar": h.bar,
                "pass": h.pass_,
                "beat": _round(h.beat),
                "time_s": _round(h.time_s),
                "extra_beats": _round(h.extra_beats),
                "extra_s": _round(h.extra_s),
                "note_id": evidence.expectation.notes[h.note_index].id,
            }
            for h in evidence.hesitations
        ],
        "restarts": [
            {
                "time_s": _round(r.time_s),
                "from_bar": r.from_bar,
                "to_bar": r.to_bar,
                "note_id": evidence.expectation.notes[r.to_index].id,
            }
            for r in evidence.restarts
        ],
        "skipped_bars": [{"bar": bar, "pass": pass_} for bar, pass_ in evidence.skipped_bars],
        "evenness": [
            {"bar": p.bar, "pass": p.pass_, "beat": _round(p.beat), "ratio_percent": _round(p.ratio_percent, 1)} for p in evidence.pairs
        ]
        if judged
        else None,
        "entry": None if evidence.entry is None else {"early_late_beats": _round(evidence.entry.early_late_beats)},
    }


def _hands(evidence: Evidence) -> list[dict[str, Any]] | None:
    if evidence.hands is None:
        return None
    return [
        {
            "staff": h.staff,
            "asynchrony_ms": _round(h.asynchrony_ms, 1),
            "early_late_ms": _round(h.early_late_ms, 1),
            "together": h.together,
            "balance_db": _round(h.balance_db, 1),
        }
        for h in evidence.hands
    ]


def _loudness(evidence: Evidence) -> dict[str, Any] | None:
    if evidence.zones is None:
        return None
    return {"zones": [{"from": z.from_bar, "to": z.to_bar, "marked": z.marked, "db": _round(z.db, 1)} for z in evidence.zones]}


def _chords(evidence: Evidence) -> list[dict[str, Any]] | None:
    if evidence.chords is None:
        return None
    return [
        {
            "bar": c.note.bar,
            "pass": c.note.pass_,
            "beat": _round(c.note.beat),
            "written": c.written,
            "heard": c.heard,
            "status": str(c.status),
            "confidence": _round(c.confidence),
        }
        for c in evidence.chords
    ]


def _note(item: NoteJudgement) -> dict[str, Any]:
    note = item.note
    return {
        "id": note.id,
        "bar": note.bar,
        "pass": note.pass_,
        "beat": _round(note.beat),
        "part": note.part,
        "staff": note.staff,
        "written_pitch": note.written_pitch,
        "sounding_midi": note.sounding_midi,
        "status": str(item.status),
        "reason": item.reason,
        "confidence": _round(item.confidence),
        "onset_s": _round(item.onset_s),
        "offset_s": _round(item.offset_s),
        "heard_midi": item.heard_midi,
        "cents": _round(item.cents, 1),
        "early_late_ms": _round(item.early_late_ms, 1),
        "early_late_beats": _round(item.early_late_beats),
        "length_ratio": _round(item.length_ratio),
        "loudness_db": _round(item.loudness_db, 1),
    }
