"""Faults of time: single notes, hands, beats and the tempo of the whole."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from didactor.core.score.expected import Expectation
from didactor.core.sound.player.faults.places import Fault, Notes, first_at, place, seconds_per_quarter, shifted

SHORTEST_S = 0.08


def _displace(sign: float) -> Callable[[Notes, Fault, Expectation], Notes]:
    def displace(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
        at = place(notes, fault, expectation)
        onset_s = notes[at].onset_s + sign * float(fault.get("ms", 150)) / 1000.0
        # All notes of a chord in one hand come late together.
        for index, note in enumerate(notes):
            if index == at or (abs(note.quarters - notes[at].quarters) < 1e-6 and note.staff == notes[at].staff):
                moved = onset_s + note.onset_s - notes[at].onset_s if index != at else onset_s
                notes[index] = replace(note, onset_s=moved, offset_s=max(note.offset_s, moved + SHORTEST_S))
        return _release_before(notes, at)

    return displace


def _release_before(notes: Notes, at: int) -> Notes:
    """A note of the same voice that would sound into a displaced one ends where that one begins."""
    for index, note in enumerate(notes[:at]):
        if note.staff == notes[at].staff and notes[at].quarters - 1e-6 > note.quarters and note.offset_s > notes[at].onset_s > note.onset_s:
            ends_before = note.quarters + note.duration_quarters <= notes[at].quarters + 1e-6
            if ends_before:
                notes[index] = replace(note, offset_s=max(notes[at].onset_s, note.onset_s + 0.03))
    return notes


late = _displace(1.0)
early = _displace(-1.0)


def hesitation(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = first_at(notes, place(notes, fault, expectation))
    return notes[:at] + shifted(notes[at:], float(fault.get("beats", 1.5)) * seconds_per_quarter(notes))


def hand(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    shift, staff = float(fault.get("ms", 60)) / 1000.0, int(fault.get("staff", 2))
    return [shifted([n], shift)[0] if n.staff == staff else n for n in notes]


def entry(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    return shifted(notes, float(fault.get("beats", 1.0)) * seconds_per_quarter(notes))


def uneven(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    half = float(fault.get("percent", 62)) / 100.0
    numbers = [b.number for b in expectation.bars]
    first = numbers.index(str(fault["bar"])) if "bar" in fault else 0
    last = numbers.index(str(fault["to_bar"])) if "to_bar" in fault else len(numbers) - 1
    begin = expectation.bars[first].start_quarters
    end = expectation.bars[last].start_quarters + expectation.bars[last].length_quarters
    pace = seconds_per_quarter(notes)

    def moved(quarters: float) -> float:
        bar = expectation.bar_at(quarters)
        within = ((quarters - bar.start_quarters) % bar.beat_quarters) / bar.beat_quarters
        if not begin - 1e-6 <= quarters < end - 1e-6 or within < 1e-6:
            return 0.0
        # Two straight lines that meet at the middle of the beat.
        bent = within * 2 * half if within <= 0.5 else half + (within - 0.5) * 2 * (1 - half)
        return (bent - within) * bar.beat_quarters * pace

    result = [replace(n, onset_s=n.onset_s + moved(n.quarters), offset_s=n.offset_s + moved(n.quarters)) for n in notes]
    for index, note in enumerate(result):
        following = [n.onset_s for n in result[index + 1 : index + 8] if n.staff == note.staff and n.quarters > note.quarters + 1e-6]
        if following and note.offset_s > following[0] and note.duration_quarters <= 1:
            result[index] = replace(note, offset_s=max(following[0], note.onset_s + 0.04))
    return result


def _stretch(notes: Notes, factor_at: Callable[[float], float]) -> Notes:
    """Scale time by the integral of ``factor_at`` (of quarters) from the first note on."""
    result, clock, before = [], notes[0].onset_s, notes[0]
    for note in notes:
        factor = factor_at(note.quarters)
        clock += (note.onset_s - before.onset_s) * factor
        result.append(replace(note, onset_s=clock, offset_s=clock + (note.offset_s - note.onset_s) * factor))
        before = note
    return result


def tempo(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    return _stretch(notes, lambda quarters: 1.0 / float(fault.get("factor", 0.85)))


def drift(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    per_bar = float(fault.get("percent", 1.5)) / 100.0
    bar = expectation.bars[0].length_quarters or 4.0
    return _stretch(notes, lambda quarters: 1.0 / (1.0 + per_bar) ** (quarters / bar))


def ritardando(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    length, share = float(fault.get("quarters", 4.0)), float(fault.get("percent", 65)) / 100.0
    begin = expectation.length_quarters - length
    return _stretch(notes, lambda quarters: 1.0 / (1.0 - (1.0 - share) * min(1.0, max(0.0, (quarters - begin) / length))))
