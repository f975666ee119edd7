"""What lists and pages show of a score, as plain values that can be kept beside it."""

from __future__ import annotations

from typing import Any

from didactor.core.formats.plain import to_plain
from didactor.core.score.model import Score


def summary(score: Score) -> dict[str, Any]:
    """Title, composer, parts with their bars, and the problems met while reading."""
    parts = [
        {
            "index": part.index,
            "name": part.name,
            "instrument": part.instrument,
            "transposition": part.transposition,
            "staves": part.staves,
            "notes": len(part.notes),
            "bars": [{"id": bar.id, "number": bar.number} for bar in part.bars],
            "tempo_qpm": next((bar.tempo_qpm for bar in part.bars if bar.tempo_qpm), None),
        }
        for part in score.parts
    ]
    return {"title": score.title, "composer": score.composer, "parts": parts, "problems": [to_plain(p) for p in score.problems]}
