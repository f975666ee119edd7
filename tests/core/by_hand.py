"""Takes made by hand, for the checks: what was heard is written down note by note. No sound, no ear."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from didactor.core.hearing.hearing import Hearing, NoteHeard, Status
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.judge import judge
from didactor.core.judging.readings_of_sound import Opening
from didactor.core.judging.registry import Finding, run_checks
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation
from tests.music import expectation

QPM = 90.0
QUARTER_S = 60.0 / QPM
#: Eight bars of quarters that rise and fall, for what needs many notes alike.
WALK = " | ".join(["C4:q D4:q E4:q F4:q", "G4:q F4:q E4:q D4:q"] * 4)
PAIRS = " | ".join(["C4:e D4:e E4:e F4:e G4:e F4:e E4:e D4:e"] * 4)
HANDS = {"text": WALK, "lower": " | ".join(["C3:q G3:q C3:q G3:q"] * 8), "name": "Piano", "fifths": 0}

Edits = Mapping[int, Mapping[str, Any]]


def walk(text: str = WALK, **line: Any) -> Expectation:
    return expectation(text, fifths=0, **line)


def at(quarters: float) -> float:
    """When a note of a faultless take begins, in seconds."""
    return 1.0 + QUARTER_S * quarters


def found(
    expected: Expectation,
    edits: Edits | None = None,
    *,
    shape: Callable[[int, NoteHeard], NoteHeard] = lambda index, note: note,
    instrument: str = "clarinet",
    targets: Mapping[str, Any] | None = None,
    opening: Opening | None = None,
    written: Expectation | None = None,
    **hearing: Any,
) -> list[Finding]:
    """Findings on a faultless take in which some notes (index to changed fields) were heard otherwise; ``shape`` changes all of them.

    ``written`` is a passage without notation, of which ``expected`` is the rhythm that was heard.
    """
    notes = []
    for index, note in enumerate(expected.notes):
        heard = NoteHeard(
            status=Status.CORRECT,
            confidence=0.95,
            onset_s=at(note.onset_quarters),
            offset_s=at(note.onset_quarters + 0.9 * note.duration_quarters),
            heard_midi=note.sounding_midi,
            cents=0.0,
            loudness_db=-20.0,
            own_db=-20.0,
            timed=True,
        )
        notes.append(replace(shape(index, heard), **(edits or {}).get(index, {})))
    made = {"extra": (), "jumps": (), "seconds_per_quarter": QUARTER_S, "share_of_notes": 1.0, "share_of_sounds": 1.0, **hearing}
    aims = {"tempo_qpm": QPM, "instrument": instrument, **(targets or {})}
    heard = Hearing(notes=tuple(notes), rhythm=expected if written else None, **made)
    return run_checks(judge(heard, written or expected, Targets(**aims), BY_SLUG[instrument], opening=opening))


def codes(findings: Sequence[Finding]) -> list[str]:
    return [f.code for f in findings]


def late(note: NoteHeard, seconds: float) -> NoteHeard:
    return replace(note, onset_s=(note.onset_s or 0.0) + seconds, offset_s=(note.offset_s or 0.0) + seconds)


MISSED = {"status": Status.MISSED, "onset_s": None, "offset_s": None, "heard_midi": None, "cents": None, "timed": False}


def wrong(expected: Expectation, index: int, semitones: int) -> dict[str, Any]:
    return {"status": Status.WRONG_PITCH, "heard_midi": expected.notes[index].sounding_midi + semitones, "cents": None}
