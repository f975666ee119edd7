"""Readings of one take after alignment: tempo and its curve, hesitations, restarts, bars left out, pairs."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from didactor.core.arrays import FloatArray
from didactor.core.hearing.hearing import Jump, Status
from didactor.core.judging.evidence import Bend, Hesitation, NoteJudgement, Pair, Restart, TempoPoint, TempoReading
from didactor.core.judging.pulse import Pulse, drift_percent_per_bar
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation

#: Measurement tolerance of a tempo, in per cent, granted on top of the band.
TEMPO_TOLERANCE_PERCENT = 0.3
#: A local tempo this far from the take's own is a misread beat.
MISREAD = 0.08


def read_tempo(
    pulse: Pulse | None, expectation: Expectation, targets: Targets, bends: Sequence[Bend] = (), inferred: bool = False
) -> TempoReading:
    """``inferred``: the positions were heard, not written; a beat read too many or too few must not count.

    A take is slow or fast only where its bars that do not bend (``bends``) are: a phrase that broadens once is no slow take.
    """
    if pulse is None or pulse.quarters[-1] <= pulse.quarters[0]:
        return TempoReading(
            played_qpm=None, deviation_percent=None, verdict=None, drift_percent_per_bar=None, drift_confidence=0.0, curve=()
        )
    if inferred:
        usual = float(np.median(pulse.slope))
        played = 60.0 / float(np.mean(pulse.slope[np.abs(pulse.slope / usual - 1) < MISREAD]))
    else:
        played = 60.0 * float(pulse.quarters[-1] - pulse.quarters[0]) / max(pulse.seconds_between(), 1e-3)
    deviation = _deviation_percent(played, targets)
    verdict = None
    if targets.stage_rules.tempo is not None:
        verdicts = {_verdict(deviation, targets)}
        if bends and not inferred:
            verdicts.add(_verdict(_deviation_percent(_unbent_qpm(pulse, expectation, bends) or played, targets), targets))
        verdict = verdicts.pop() if len(verdicts) == 1 else "in_band"
    bar_quarters = float(np.median([b.length_quarters for b in expectation.bars]))
    drift, confidence = drift_percent_per_bar(pulse, bar_quarters)
    if not inferred:
        confidence = min(confidence, _steadiness_of_drift(pulse, expectation))
    return TempoReading(
        played_qpm=played,
        deviation_percent=deviation,
        verdict=verdict,
        drift_percent_per_bar=drift if confidence > 0 else None,
        drift_confidence=confidence,
        curve=tuple(_curve(pulse, expectation)),
    )


def _steadiness_of_drift(pulse: Pulse, expectation: Expectation) -> float:
    """How much of what the bars' own tempi differ by a straight line explains, 0..1; 1 where there are too few to tell.

    The smooth map rises or falls for everybody whose time wanders; who drifts does so from bar to bar.
    """
    edges, at = _bar_times(pulse, expectation)
    known = (edges[:-1] >= pulse.quarters[0] - 1e-6) & (edges[1:] <= pulse.quarters[-1] + 1e-6)
    if known.sum() < FEWEST_BARS + 1:
        return 1.0
    number = np.arange(len(known))[known]
    pace = np.log(np.maximum(np.diff(at), 1e-3) / np.maximum(np.diff(edges), 1e-6))[known]
    return float(np.corrcoef(number, pace)[0, 1] ** 2) if np.ptp(pace) > 0 else 0.0


def _deviation_percent(qpm: float, targets: Targets) -> float:
    low = targets.tempo_qpm
    return 100.0 * (qpm / min(max(qpm, low), targets.tempo_to_qpm or low) - 1)


def _verdict(deviation_percent: float, targets: Targets) -> str:
    allowed = targets.band + TEMPO_TOLERANCE_PERCENT
    verdict = "fast" if deviation_percent > allowed else "slow" if deviation_percent < -allowed else "in_band"
    return "in_band" if targets.stage_rules.tempo == "not_above" and verdict == "slow" else verdict


def _unbent_qpm(pulse: Pulse, expectation: Expectation, bends: Sequence[Bend]) -> float | None:
    """The tempo of the bars that do not bend; None where none is left."""
    bent = {bar for bend in bends for bar in bend.bars}
    edges, at = _bar_times(pulse, expectation)
    pairs = zip(expectation.bars, np.diff(edges), np.diff(at), strict=True)
    inside = (edges[:-1] >= pulse.quarters[0] - 1e-6) & (edges[1:] <= pulse.quarters[-1] + 1e-6)
    kept = [(q, s) for (bar, q, s), ok in zip(pairs, inside, strict=True) if ok and (bar.number, bar.pass_) not in bent]
    seconds = sum(s for _, s in kept)
    return 60.0 * float(sum(q for q, _ in kept)) / float(seconds) if seconds > 0 else None


def _bar_times(pulse: Pulse, expectation: Expectation) -> tuple[FloatArray, FloatArray]:
    """Where bars begin, and the last one ends, in quarters and in seconds with the pauses taken out."""
    edges = np.array([bar.start_quarters for bar in expectation.bars] + [expectation.length_quarters])
    return edges, np.interp(edges, pulse.quarters, pulse.times - np.cumsum(pulse.pause_s))


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


#: A bar broadens below this share of the take's usual tempo, and presses on above that one.
BROADENS, PRESSES = 0.85, 1.18
FEWEST_BARS = 4


def read_bends(pulse: Pulse | None, expectation: Expectation) -> list[Bend]:
    """Stretches of bars that are slower or faster than the take's other bars, pauses taken out; each stretch is one bend."""
    if pulse is None:
        return []
    edges, at = _bar_times(pulse, expectation)
    known = (edges[:-1] >= pulse.quarters[0] - 1e-6) & (edges[1:] <= pulse.quarters[-1] + 1e-6)
    pace = np.diff(at) / np.maximum(np.diff(edges), 1e-6)
    if known.sum() < FEWEST_BARS:
        return []
    shares = float(np.median(pace[known])) / np.maximum(pace, 1e-6)
    kinds = [0 if not ok else -1 if share < BROADENS else 1 if share > PRESSES else 0 for ok, share in zip(known, shares, strict=True)]
    found = []
    for kind, run in itertools.groupby(range(len(kinds)), key=kinds.__getitem__):
        inside = list(run)
        if kind == 0:
            continue
        after = inside[-1] + 1
        times = np.interp([edges[inside[0]], edges[after]], pulse.quarters, pulse.times)
        found.append(
            Bend(
                bars=tuple((expectation.bars[i].number, expectation.bars[i].pass_) for i in inside),
                share=float(min(shares[inside]) if kind < 0 else max(shares[inside])),
                back=expectation.bars[after].number if after < len(kinds) and known[after] else None,
                start_s=float(times[0]),
                end_s=float(times[1]),
            )
        )
    return found


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
                extra_quarters=float(pulse.pause_s[k] / pulse.slope[k]),
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
            from_index=jump.from_index,
            to_index=jump.to_index,
        )
        for jump in jumps
        if jump.to_index <= jump.from_index
    ]


def read_skipped(notes: Sequence[NoteJudgement], expectation: Expectation) -> list[tuple[str, int]]:
    """Bars of which no note was heard, between bars that were played. One note alone is a missed note, unless the playing went on
    without the time of its bar.
    """
    by_bar: dict[tuple[str, int], list[Status]] = {}
    stretches: dict[tuple[str, int], int] = {}
    for item in notes:
        bar = (item.note.bar, item.note.pass_)
        by_bar.setdefault(bar, []).append(item.status)
        if item.onset_s is not None:
            stretches[bar] = item.stretch
    silent = [all(s is Status.MISSED for s in statuses) for statuses in by_bar.values()]
    keys = list(by_bar)
    played = [i for i, empty in enumerate(silent) if not empty]
    if not played:
        return []
    found = []
    for empty, run in itertools.groupby(range(played[0], played[-1]), key=silent.__getitem__):
        at = list(run)
        bars = [keys[i] for i in at]
        jumped = stretches.get(keys[at[0] - 1]) != stretches.get(keys[at[-1] + 1])
        if empty and (jumped or sum(len(by_bar[bar]) for bar in bars) >= 2):
            found += bars
    return found


def read_pairs(notes: Sequence[NoteJudgement], expectation: Expectation) -> list[Pair]:
    """Beats that are divided into two, three or four equal notes, all heard, with the next beat's note to close them: how much
    of the whole the first half takes. Four notes are two pairs as well.
    """
    found = []
    for staff in sorted({n.note.staff for n in notes}):
        line = _line(notes, staff)
        for index, first in enumerate(line):
            beat = expectation.bar_at(first.note.onset_quarters).beat_quarters
            for count in (2, 3, 4):
                group = line[index : index + count + 1]
                if abs(first.note.beat % beat) < 1e-6 and _is_even(group, count, beat):
                    found.append(_pair(group, count))
                if abs(first.note.beat % (beat / 2)) < 1e-6 and count == 2 and _is_even(group, 2, beat / 2):
                    found.append(_pair(group, 2, half=True))
    return sorted(found, key=lambda p: (p.onset_quarters, p.half))


def _line(notes: Sequence[NoteJudgement], staff: int) -> list[NoteJudgement]:
    """One note for each moment of a staff; grace notes have no time of their own."""
    line: dict[float, NoteJudgement] = {}
    for item in notes:
        if item.note.staff == staff and not item.note.grace:
            line.setdefault(round(item.note.onset_quarters, 6), item)
    return [line[quarters] for quarters in sorted(line)]


def _is_even(group: Sequence[NoteJudgement], count: int, span_quarters: float) -> bool:
    """Whether ``count`` notes written alike fill the span, and all of them and the one after were heard in order."""
    if len(group) <= count or not all(item.timed and item.onset_s is not None for item in group):
        return False
    written = np.diff([item.note.onset_quarters for item in group])
    played = np.diff([item.onset_s or 0.0 for item in group])
    return bool(np.all(np.abs(written - span_quarters / count) < 1e-6) and np.all(played > 0.01))


def _pair(group: Sequence[NoteJudgement], count: int, half: bool = False) -> Pair:
    """The share of the first half. Of three notes the first, as if the halves were each played evenly."""
    times = np.array([item.onset_s for item in group], dtype=float)
    whole = times[count] - times[0]
    first = times[count // 2] - times[0] if count != 3 else 1.5 * (times[1] - times[0])
    note = group[0].note
    return Pair(
        bar=note.bar,
        pass_=note.pass_,
        beat=note.beat,
        onset_quarters=note.onset_quarters,
        ratio_percent=100 * float(first / whole),
        half=half,
    )
