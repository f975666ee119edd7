"""A whole take at a glance: one cell a bar with what matters most in it, and the summary that lists show."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

from didactor.core.formats.result import FindingResult, Result
from didactor.core.hearing.hearing import Status
from didactor.core.judging.categories import gravest
from didactor.core.words import keep, read, worded

UNJUDGED = "unjudged"
#: A wrong or missed note counts from this confidence on.
SURE = 0.6


@dataclass(frozen=True, slots=True, kw_only=True)
class BarCell:
    """One bar: its number, the category of what is worst in it (empty for nothing, or ``UNJUDGED``), and all of it in words."""

    number: str
    worst: str
    says: tuple[str, ...]

    @property
    def words(self) -> str:
        return " ".join(self.says)


def bars_at_a_glance(result: Result) -> list[BarCell]:
    """One cell for every bar of the passage, each once, however often it is played."""
    found: dict[str, list[FindingResult]] = {}
    for finding in result.findings or ():
        if finding.bar is not None:
            found.setdefault(finding.bar, []).append(finding)
    judged = {note.bar for note in result.notes or () if note.status is not Status.UNCERTAIN}
    return [
        _cell(number, found.get(number, []), number in judged or not result.ear.note_by_note)
        for number in dict.fromkeys(note.bar for note in result.notes or ())
    ]


def _cell(number: str, findings: list[FindingResult], judged: bool) -> BarCell:
    if findings:
        return BarCell(number=number, worst=gravest(f.category for f in findings), says=tuple(f.text for f in findings))
    says = worded("Bar {number}. Nothing to mend.", number=number) if judged else worded("Bar {number}. Not judged.", number=number)
    return BarCell(number=number, worst="" if judged else UNJUDGED, says=(says,))


def read_cell(number: str, worst: str, says: Any) -> BarCell:
    """A cell of a stored summary; older ones have one text."""
    return BarCell(number=number, worst=worst, says=tuple(map(read, says if isinstance(says, list) else [says])))


def summary_of(result: Result) -> dict[str, Any]:
    """What lists show of a result, as plain values to be stored beside it."""
    return {
        "strip": [[cell.number, cell.worst, [keep(text) for text in cell.says]] for cell in bars_at_a_glance(result)],
        "played_qpm": result.tempo.played_qpm if result.tempo else None,
        "findings": len(result.findings or ()),
        "facts": _facts(result),
        "paused_s": round(sum(p.extra_s for p in result.pulse.hesitations), 1) if result.pulse else None,
        "categories": dict(Counter(f.category for f in result.findings or ())),
        "places": [[f.code, f.category, f.bar, f.beat, f.size, f.start_s, f.end_s] for f in result.findings or () if f.bar is not None],
    }


def moments_of(result: Result) -> list[tuple[str, int, float, float]]:
    """When each moment of the score was heard: bar, pass, quarters into the bar, seconds. Of notes together the first that was right."""
    found: dict[tuple[str, int, float], float] = {}
    for note in result.notes or ():
        if note.onset_s is not None and note.status is Status.CORRECT:
            key = (note.bar, note.pass_, round(note.beat, 3))
            found[key] = min(found.get(key, note.onset_s), note.onset_s)
    return [(*key, at) for key, at in found.items()]


def _facts(result: Result) -> dict[str, Any]:
    """Notes judged and expected, faults by bar (wrong and missed notes and chords, pauses), and how many remarks are of rhythm."""
    notes = list(result.notes or ())
    at_fault = [n.bar for n in notes if _is_fault(n.status, n.confidence)]
    at_fault += [c.bar for c in result.chords or () if _is_fault(c.status, c.confidence)]
    at_fault += [pause.bar for pause in (result.pulse.hesitations if result.pulse else ())]
    faults = dict(Counter(at_fault))
    return {
        "judged": sum(n.status is not Status.UNCERTAIN for n in notes),
        "expected": len(notes),
        "faults": faults,
        "rhythm": sum(f.category in ("rhythm", "flow") for f in result.findings or ()),
    }


def _is_fault(status: Status, confidence: float) -> bool:
    return status in (Status.WRONG_PITCH, Status.MISSED) and confidence >= SURE
