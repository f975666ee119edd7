"""What plain methods reach on the same takes: for measure, beside ``bench/accuracy``.

    bench/baselines             every eighth take of one and many voices, held-out set
    bench/baselines --every 40  fewer of them
    bench/baselines --write     also refreshes its part of docs/benchmarks.md

- *pyin + onsets + straight line*: fundamental by pYIN, onsets by spectral flux (both from librosa), written notes placed by one
  straight line from the first to the last onset; a note is right when the pitch around its place is the written one.
- *note model's own events*: the note model's events by its published rule (onset over 0.5, sounding over 0.3), placed by such a line.

A note's verdict is right or missed; nothing is left unjudged. Also mir_eval's note F-measure (onset within 50 ms, pitch within 50
cents) of the note model's events and of our ear's notes.
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import sys
from pathlib import Path

os.environ.setdefault("OMP_NUM_THREADS", "1")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

import numpy as np  # noqa: E402
import takes as of  # noqa: E402
from report import close  # noqa: E402

from didactor.core.analyse import analyse  # noqa: E402
from didactor.core.hearing.hearing import Status  # noqa: E402
from didactor.core.hearing.note_model import LOWEST_MIDI, note_posteriors  # noqa: E402
from didactor.core.sound.recording import RATE_HZ, Recording  # noqa: E402
from didactor.core.units import midi_to_hz  # noqa: E402

ONSET, SOUNDING, SHORTEST_FRAMES = 0.5, 0.3, 11
NEAR_S = 0.12
Note = tuple[float, float, int]


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    parser.add_argument("--every", type=int, default=8)
    options = parser.parse_args()
    rows = [
        "| method | voices | takes | status right %, clean | status right %, faults | note F-measure (mir_eval) |",
        "|---|---|---|---|---|---|",
    ]
    figures = {}
    for voices in ("one", "many"):
        chosen = [s for s in of.scenarios(of.HELD_OUT, voices) if s.condition in ("clean", "faults: mixed")][:: options.every]
        with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
            scored = pool.map(_one, chosen, chunksize=1)
        for method in ("pyin + onsets + straight line", "note model's own events", "our ear"):
            shares = {
                c: [s[method][0] for sc, s in zip(chosen, scored, strict=True) if sc.condition == c and method in s]
                for c in ("clean", "faults: mixed")
            }
            measures = [s[method][1] for s in scored if method in s and s[method][1] is not None]
            if not shares["clean"]:
                continue
            clean, faulty = (100 * float(np.mean(shares[c])) for c in shares)
            rows.append(
                f"| {method} | {voices} | {len(chosen)} | {clean:.1f} | {faulty:.1f} | {np.mean(measures):.3f} |"
                if measures
                else f"| {method} | {voices} | {len(chosen)} | {clean:.1f} | {faulty:.1f} | |"
            )
            figures[f"{voices}_{method.split()[0]}_clean_percent"] = round(clean, 1)
    return close("baselines", "\n".join(rows), figures, write=options.write)


def _one(scenario: of.Scenario) -> dict[str, tuple[float, float | None]]:
    take = of.take(scenario)
    result = {"note model's own events": _by_events(take)}
    if scenario.voices == "one":
        result["pyin + onsets + straight line"] = (_by_pyin(take), None)
    analysis = analyse(Recording(samples=take.samples), take.expectation, take.targets, backing=take.backing)
    if analysis.evidence:
        notes = [
            (n.onset_s, n.onset_s + 0.2, n.heard_midi)
            for n in analysis.evidence.notes
            if n.onset_s is not None and n.heard_midi is not None
        ]
        verdicts = [n.status is Status.CORRECT for n in analysis.evidence.notes]
        result["our ear"] = (_share_right(take, verdicts), _f_measure(take, notes))
    return result


def _share_right(take: of.Take, verdicts: list[bool]) -> float:
    truth = {(n["id"], n["pass"]): n["midi"] == n["expected_midi"] for n in take.truth["notes"] if n["id"]}
    return float(np.mean([v == truth.get((n.id, n.pass_), False) for n, v in zip(take.expectation.notes, verdicts, strict=True)]))


def _line(take: of.Take, first_s: float, last_s: float) -> list[float]:
    quarters = np.array([n.onset_quarters for n in take.expectation.notes])
    return (first_s + (quarters - quarters[0]) / max(quarters[-1] - quarters[0], 1e-6) * (last_s - first_s)).tolist()


def _by_pyin(take: of.Take) -> float:
    import librosa

    sound = librosa.resample(take.samples, orig_sr=RATE_HZ, target_sr=22_050)
    f0, voiced, _ = librosa.pyin(sound, fmin=40, fmax=2000, sr=22_050, frame_length=2048)
    onsets = librosa.onset.onset_detect(y=sound, sr=22_050, units="time")
    if len(onsets) < 2:
        return _share_right(take, [False] * len(take.expectation.notes))
    midi = np.where(voiced, librosa.hz_to_midi(np.where(f0 > 0, f0, 1.0)), np.nan)
    hop_s = 512 / 22_050
    verdicts = []
    for note, at in zip(take.expectation.notes, _line(take, onsets[0], onsets[-1]), strict=True):
        part = midi[int((at + 0.05) / hop_s) : int((at + 0.2) / hop_s) + 1]
        part = part[~np.isnan(part)]
        verdicts.append(bool(len(part)) and abs(float(np.median(part)) - note.sounding_midi) < 0.5)
    return _share_right(take, verdicts)


def _by_events(take: of.Take) -> tuple[float, float]:
    events = _events(take)
    if len(events) < 2:
        return 0.0, 0.0
    times = _line(take, min(e[0] for e in events), max(e[0] for e in events))
    verdicts = [
        any(m == n.sounding_midi and abs(t - at) < NEAR_S for t, _, m in events)
        for n, at in zip(take.expectation.notes, times, strict=True)
    ]
    return _share_right(take, verdicts), _f_measure(take, events)


def _events(take: of.Take) -> list[Note]:
    posteriors = note_posteriors(take.samples)
    onset, sounding = posteriors.onset, posteriors.sounding
    found = []
    for key in range(onset.shape[1]):
        column = onset[:, key]
        for frame in np.flatnonzero((column[1:-1] > ONSET) & (column[1:-1] >= column[:-2]) & (column[1:-1] > column[2:])) + 1:
            end = frame + 1
            while end < len(sounding) and sounding[end, key] > SOUNDING:
                end += 1
            if end - frame >= SHORTEST_FRAMES:
                found.append((float(frame * posteriors.hop_s), float(end * posteriors.hop_s), LOWEST_MIDI + key))
    return sorted(found)


def _f_measure(take: of.Take, notes: list[Note]) -> float:
    import mir_eval

    truth = [(n["onset_s"], n["offset_s"], n["midi"]) for n in take.truth["notes"]]
    if not notes:
        return 0.0
    (true_times, true_hz), (times, hz) = (
        (np.array([(a, max(b, a + 0.01)) for a, b, _ in group]), np.array([midi_to_hz(m) for _, _, m in group])) for group in (truth, notes)
    )
    return float(mir_eval.transcription.precision_recall_f1_overlap(true_times, true_hz, times, hz, offset_ratio=None)[2])


if __name__ == "__main__":
    sys.exit(main())
