"""Faults of order: bars played again or not at all, strokes too many."""

from __future__ import annotations

from dataclasses import replace

from didactor.core.score.expected import Expectation
from didactor.core.sound.player.faults.places import Fault, Notes, bar_start, first_at, place, shifted


def restart(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = first_at(notes, place(notes, fault, expectation))
    back = bar_start(notes, at, expectation, int(fault.get("bars", 1)))
    again = notes[back:]
    stop_s = notes[at].onset_s
    before = [replace(n, offset_s=max(n.onset_s + 0.03, min(n.offset_s, stop_s))) for n in notes[:at]]
    return before + shifted(again, stop_s + float(fault.get("pause_s", 0.6)) - again[0].onset_s)


def skip(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = bar_start(notes, place(notes, fault, expectation), expectation, 0)
    starts = [b.start_quarters for b in expectation.bars] + [expectation.length_quarters]
    here = max(i for i, s in enumerate(starts) if s <= notes[at].quarters + 1e-6)
    target = starts[min(len(starts) - 1, here + int(fault.get("bars", 1)))]
    return _without(notes, starts[here], target)


def repeat(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    stretches: list[list[float]] = []
    for bar in expectation.bars:
        if bar.pass_ > 1 and stretches and abs(stretches[-1][1] - bar.start_quarters) < 1e-6:
            stretches[-1][1] += bar.length_quarters
        elif bar.pass_ > 1:
            stretches.append([bar.start_quarters, bar.start_quarters + bar.length_quarters])
    for begin, end in reversed(stretches):
        notes = _without(notes, begin, end)
    return notes


def _without(notes: Notes, begin: float, end: float) -> Notes:
    """Notes of [begin, end) quarters left out; what follows comes where they would have begun, on the beat."""
    kept = [n for n in notes if n.quarters < begin - 1e-6]
    left_out = [n for n in notes if begin - 1e-6 <= n.quarters < end - 1e-6]
    rest = [n for n in notes if n.quarters >= end - 1e-6]
    if not rest or not left_out:
        return kept + rest
    pace = (rest[0].onset_s - left_out[0].onset_s) / max(rest[0].quarters - left_out[0].quarters, 1e-6)
    return kept + shifted(rest, -(end - begin) * pace)


def stroke(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    last = [n for n in notes if abs(n.quarters - notes[-1].quarters) < 1e-6]
    earlier = [n.onset_s for n in notes if n.quarters < last[0].quarters - 1e-6]
    step = last[0].onset_s - max(earlier) if earlier else 0.5
    added = []
    for number in range(1, int(fault.get("count", 1)) + 1):
        added += [replace(n, id="", expected_midi=None) for n in shifted(last, number * step)]
    return [replace(n, offset_s=min(n.offset_s, n.onset_s + step)) for n in notes] + added if len(last) == 1 else notes + added
