"""Readings of one take after alignment: tempo and its curve, hesitations, restarts, bars left out, pairs."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from didactor.core.hearing.hearing import Jump, Status
from didactor.core.judging.evidence import Hesitation, NoteJudgement, Pair, Restart, TempoPoint, TempoReading
from didactor.core.judging.pulse import Pulse, drift_percent_per_bar
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation

#: Measurement tolerance of a tempo, in per cent, granted on top of the band.
TEMPO_TOLERANCE_PERCENT = 0.3


def read_tempo(pulse: Pulse | None, expectation: Expectation, targets: Targets) -> TempoReading:
    if pulse is None or pulse.quarters[-1] <= pulse.quarters[0]:
        return TempoReading(
            played_qpm=None, deviation_percent=None, verdict=None, drift_percent_per_bar=None, drift_confidence=0.0, curve=()
        )
    played = 60.0 * float(pulse.quarters[-1] - pulse.quarters[0]) / max(pulse.seconds_between(), 1e-3)
    low = targets.tempo_qpm
    high = targets.tempo_to_qpm or low
    nearest = min(max(played, low), high)
    deviation = 100.0 * (played / nearest - 1)
    verdict = None
    allowed = targets.band + TEMPO_TOLERANCE_PERCENT
    if targets.stage_rules.tempo is not None:
        verdict = "fast" if deviation > allowed else "slow" if deviation < -allowed else "in_band"
        if targets.stage_rules.tempo == "not_above" and verdict == "slow":
            verdict = "in_band"
    bar_quarters = float(np.median([b.length_quarters for b in expectation.bars]))
    drift, confidence = drift_percent_per_bar(pulse, bar_quarters)
    return TempoReading(
        played_qpm=played,
        deviation_percent=deviation,
        verdict=verdict,
        drift_percent_per_bar=drift if confidence > 0 else None,
        drift_confidence=confidence,
        curve=tuple(_curve(pulse, expectation)),
    )


def _curve(pulse: Pulse, expectation: Expectation) -> list[TempoPoint]:
    points = []
    for bar in expectation.bars:
        for position in np.arange(bar.start_quarters, bar.start_quarters + bar.length_quarters - 1e-6, bar.beat_quarters):
            if not pulse.quarters[0] - 1e-6 <= position <= pulse.quarters[-1] + 1e-6:
                continue
            slope = float(np.interp(position, pulse.quarters, pulse.slope))
            points.append(
                TempoPoint(
                    bar=bar.number,
                    pass_=bar.pass_,
                    beat=float(position - bar.start_quarters),
                    quarters=float(position),
                    time_s=float(np.interp(position, pulse.quarters, pulse.times)),
                    qpm=60.0 / max(slope, 1e-3),
                )
            )
    return points


def read_hesitations(pulse: Pulse | None, used: list[int], expectation: Expectation) -> list[Hesitation]:
    if pulse is None:
        return []
    found = []
    for k in np.flatnonzero(pulse.hesitation):
        note = expectation.notes[used[k]]
        found.append(
            Hesitation(
                note_index=used[k],
                bar=note.bar,
                pass_=note.pass_,
                beat=note.beat,
                time_s=float(pulse.times[k]),
                extra_beats=float(pulse.pause_s[k] / pulse.slope[k]),
                extra_s=float(pulse.pause_s[k]),
            )
        )
    return found


def read_restarts(jumps: Sequence[Jump], expectation: Expectation) -> list[Restart]:
    return [
        Restart(
            time_s=jump.time_s,
            from_bar=expectation.notes[jump.from_index].bar,
            to_bar=expectation.notes[jump.to_index].bar,
            to_index=jump.to_index,
        )
        for jump in jumps
        if jump.to_index <= jump.from_index
    ]


def read_skipped(notes: Sequence[NoteJudgement], expectation: Expectation) -> list[tuple[str, int]]:
    """Bars of which no note was heard, between bars that were played."""
    by_bar: dict[tuple[str, int], list[Status]] = {}
    for item in notes:
        by_bar.setdefault((item.note.bar, item.note.pass_), []).append(item.status)
    silent = [all(s is Status.MISSED for s in statuses) for statuses in by_bar.values()]
    keys = list(by_bar)
    played = [i for i, empty in enumerate(silent) if not empty]
    if not played:
        return []
    return [keys[i] for i in range(played[0], played[-1]) if silent[i] and len(by_bar[keys[i]]) >= 2]


def read_pairs(notes: Sequence[NoteJudgement], expectation: Expectation) -> list[Pair]:
    """Written-equal pairs that fill one beat, both heard, with the next beat's note to close them."""
    found = []
    for first, second, closing in zip(notes[:-2], notes[1:-1], notes[2:], strict=True):
        a, b, c = (item.note for item in (first, second, closing))
        beat = expectation.bar_at(a.onset_quarters).beat_quarters
        half = b.onset_quarters - a.onset_quarters
        if abs(half - beat / 2) > 1e-6 or abs(c.onset_quarters - b.onset_quarters - half) > 1e-6 or abs(a.beat % beat) > 1e-6:
            continue
        times: list[float | None] = [first.onset_s, second.onset_s, closing.onset_s]
        if any(t is None for t in times) or not all(item.timed for item in (first, second, closing)):
            continue
        known = np.array(times, dtype=float)
        whole = float(known[2] - known[0])
        if whole > 0.05 and known[0] < known[1] < known[2]:
            found.append(Pair(bar=a.bar, pass_=a.pass_, beat=a.beat, ratio_percent=100 * float(known[1] - known[0]) / whole))
    return found
