"""Scores to tables, figures and plots."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from planted import Scenario
from scoring import Score

FLOW = ("flow.hesitation", "flow.restart", "flow.skipped")
#: Findings with goals of their own.
APART = (*FLOW, "notes.wrong", "notes.missed", "notes.extra", "chords.wrong", "rhythm.count")
BINS = (0.0, 0.5, 0.6, 0.7, 0.8, 0.9, 0.95, 0.98, 1.0001)


@dataclass(frozen=True)
class Entry:
    scenario: Scenario
    score: Score
    seconds: float


def together(entries: Iterable[Entry]) -> Score:
    total = Score()
    for entry in entries:
        total.add(entry.score)
    return total


def percent(part: float, whole: float) -> float:
    return round(100 * part / whole, 2) if whole else float("nan")


def _p(values: list[float], q: float) -> float:
    return round(float(np.percentile(values, q)), 2) if values else float("nan")


def summary(entries: list[Entry]) -> tuple[str, dict[str, Any]]:
    """All tables as text, and the figures."""
    figures: dict[str, Any] = {"takes": len(entries)}
    parts = []
    for voices in ("one", "many"):
        own = [e for e in entries if e.scenario.voices == voices]
        if own:
            figures |= _figures(voices, own)
            parts += [f"### {'One voice' if voices == 'one' else 'Many voices'}", _split_tables(own), _codes(own), _outcomes(own)]
    moved = [e for e in entries if e.scenario.voices.endswith("moved")]
    if moved:
        figures |= _moved_figures(moved)
        parts += [
            "### Expressive players, and single late moments",
            _split(moved, lambda e: f"{e.scenario.voices}: {e.scenario.condition}"),
        ]
    beside = [e for e in entries if e.scenario.voices.endswith("beside")]
    if beside:
        for voices in ("one", "many"):
            own = together(e for e in beside if e.scenario.voices.startswith(voices))
            figures[f"{voices}_beside_recall_percent"] = percent(own.rightly, own.faulty)
            figures[f"{voices}_beside_precision_percent"] = percent(own.rightly, own.accused)
        parts += ["### Faults side by side", _split(beside, lambda e: f"{e.scenario.voices}: {e.scenario.condition}")]
    for kind in ("entries", "chords", "strokes", "clapped", "pulse", "said"):
        own = [e for e in entries if e.scenario.voices == kind]
        if own:
            figures |= _small_figures(kind, own)
            parts += [f"### {kind.capitalize()}", _split(own, lambda e: e.scenario.condition), _codes(own)]
    parts += ["### How sure, how right", _reliability(entries)]
    # What no take of this selection could show is left out.
    return "\n\n".join(p for p in parts if p), {k: v for k, v in figures.items() if v == v}


def _of(entries: list[Entry], condition: str) -> Score:
    return together(e for e in entries if e.scenario.condition.startswith(condition))


def _figures(voices: str, entries: list[Entry]) -> dict[str, Any]:
    clean, degraded, mixed = (_of(entries, c) for c in ("clean", "degraded", "faults: mixed"))
    faulty, every = _of(entries, "faults"), together(entries)
    figures: dict[str, Any] = {}
    for name, group in (("clean", clean), ("degraded", degraded), ("mixed", mixed)):
        figures[f"judged_{name}_percent"] = percent(group.judged, group.notes)
        figures[f"right_{name}_percent"] = percent(group.right, group.judged)
    figures["false_per_100_notes_clean"] = percent(clean.false_findings, clean.notes)
    figures["false_per_100_notes_degraded"] = percent(degraded.false_findings, degraded.notes)
    figures["spotless_clean_percent"] = percent(clean.spotless, clean.takes)
    figures["wrong_missed_recall_percent"] = percent(mixed.rightly, mixed.faulty)
    figures["wrong_missed_precision_percent"] = percent(mixed.rightly, mixed.accused)
    figures["extra_recall_percent"] = percent(mixed.extra_found, mixed.extra_planted)
    figures["extra_precision_percent"] = percent(mixed.extra_found, mixed.extra_claimed)
    others = [c for c in faulty.planted if c not in APART]
    figures["other_codes_recall_percent"] = percent(sum(faulty.found[c] for c in others), sum(faulty.planted[c] for c in others))
    claimed = {c for c in every.claimed if c not in APART}
    figures["other_codes_precision_percent"] = percent(sum(every.found[c] for c in claimed), sum(every.claimed[c] for c in claimed))
    figures["other_codes_false_per_clean_take"] = round(sum(clean.claimed[c] for c in claimed) / max(1, clean.takes), 3)
    for code in FLOW:
        figures[f"{code.split('.')[1]}_f1"] = _f1(every.planted[code], every.found[code], every.claimed[code])
    figures["onset_median_ms"], figures["onset_p95_ms"] = _p(every.onset_ms, 50), _p(every.onset_ms, 95)
    figures["tempo_median_percent"], figures["tempo_p95_percent"] = _p(clean.tempo_percent, 50), _p(clean.tempo_percent, 95)
    figures["cents_median"], figures["cents_p95"] = _p(clean.cents, 50), _p(clean.cents, 95)
    figures["tuning_p95_cents"] = _p(clean.tuning_cents, 95)
    figures["refused_clean"] = clean.refused
    figures["x_real_time"] = round(1 / float(np.median([e.seconds for e in entries])), 1)
    return {f"{voices}_{name}": value for name, value in figures.items()}


def _moved_figures(entries: list[Entry]) -> dict[str, Any]:
    """Expressive clean takes, and how many late moments are told: of each take the share of moments with a finding at their place."""
    figures: dict[str, Any] = {}
    for voices in ("one", "many"):
        clean = together(e for e in entries if e.scenario.voices == f"{voices} moved" and e.scenario.condition.startswith("clean"))
        figures[f"{voices}_false_per_100_notes_expressive"] = percent(clean.false_findings, clean.notes)
        figures[f"{voices}_spotless_expressive_percent"] = percent(clean.spotless, clean.takes)
    for ms in (80, 120, 200):
        for name in ("steady", "expressive"):
            own = together(e for e in entries if e.scenario.condition == f"faults: {ms} ms late, {name}")
            figures[f"late_{ms}_{name}_told_percent"] = percent(own.moments_told, own.moments)
            figures[f"late_{ms}_{name}_false_per_100_notes"] = percent(own.false_findings, own.notes)
    return figures


def _small_figures(kind: str, entries: list[Entry]) -> dict[str, Any]:
    clean, every = _of(entries, "clean"), together(entries)
    figures: dict[str, Any] = {"false_findings_per_clean_take": round(clean.false_findings / max(1, clean.takes), 3)}
    if kind == "entries":
        figures["told_percent"] = percent(every.found["rhythm.entry"], every.planted["rhythm.entry"])
        figures["false_entries"] = every.claimed["rhythm.entry"] - every.found["rhythm.entry"]
    if kind == "chords":
        figures["chords_right_percent"] = percent(every.strokes_right, every.judged)
        figures["chords_judged_percent"] = percent(every.judged, every.strokes)
        figures["wrong_recall_percent"] = percent(every.rightly, every.faulty)
        figures["wrong_precision_percent"] = percent(every.rightly, every.accused)
    if every.counts:
        figures["counts_right_percent"] = percent(every.counts_right, every.counts)
        figures["counts_judged_percent"] = percent(every.counts, every.counts_asked)
    if kind in ("strokes", "clapped"):
        figures["right_percent"] = percent(every.right, every.judged)
    planted, found, claimed = sum(every.planted.values()), sum(every.found.values()), sum(every.claimed.values())
    figures["findings_recall_percent"] = percent(found, planted)
    figures["findings_precision_percent"] = percent(found, claimed)
    if every.tempo_percent:
        figures["tempo_p95_percent"] = _p(every.tempo_percent, 95)
    return {f"{kind}_{name}": value for name, value in figures.items()}


def _f1(planted: int, found: int, claimed: int) -> float:
    return round(2 * found / (planted + claimed), 3) if planted + claimed else float("nan")


def _split_tables(entries: list[Entry]) -> str:
    clean = [e for e in entries if e.scenario.condition == "clean"]
    return "\n\n".join(
        (
            "Clean takes by instrument:\n\n" + _split(clean, lambda e: e.scenario.instrument),
            "Clean takes by source:\n\n" + _split(clean, lambda e: e.scenario.source),
            "Clean takes by room:\n\n" + _split(clean, lambda e: e.scenario.room),
            "Clean takes by player:\n\n" + _split(clean, lambda e: e.scenario.style),
            "All takes by condition:\n\n" + _split(entries, lambda e: e.scenario.condition),
        )
    )


def _split(entries: list[Entry], key: Callable[[Entry], str]) -> str:
    rows = [
        "| | takes | notes | judged % | right % | false findings / 100 notes | spotless % | faults: recall / precision % | onset ms |",
        "|---|---|---|---|---|---|---|---|---|",
    ]
    groups: dict[str, list[Entry]] = {}
    for entry in entries:
        groups.setdefault(key(entry), []).append(entry)
    for name in sorted(groups):
        s = together(groups[name])
        spotless = percent(s.spotless, s.takes) if not name.startswith("faults") else ""
        faults = f"{percent(s.rightly, s.faulty)} / {percent(s.rightly, s.accused)}" if s.faulty else ""
        rows.append(
            f"| {name} | {s.takes} | {s.notes} | {percent(s.judged, s.notes)} | {percent(s.right, s.judged)} "
            f"| {percent(s.false_findings, s.notes)} | {spotless} | {faults} | {_p(s.onset_ms, 50)} / {_p(s.onset_ms, 95)} |"
        )
    return "\n".join(rows)


def _codes(entries: list[Entry]) -> str:
    every, clean = together(entries), _of(entries, "clean")
    rows = ["| finding | planted | recall % | claimed | precision % | false per clean take |", "|---|---|---|---|---|---|"]
    for code in sorted(set(every.planted) | set(every.claimed)):
        rows.append(
            f"| {code} | {every.planted[code]} | {percent(every.found[code], every.planted[code])} | {every.claimed[code]} "
            f"| {percent(every.found[code], every.claimed[code])} | {clean.claimed[code] / max(1, clean.takes):.3f} |"
        )
    return "\n".join(rows) if len(rows) > 2 else ""


def _outcomes(entries: list[Entry]) -> str:
    """What became of wrong and missed notes."""
    outcomes = together(entries).outcomes
    rows = ["| played | heard as | notes | instruments |", "|---|---|---|---|"]
    for played, became in sorted({(p, b) for p, b, _ in outcomes}):
        by = {i: n for (p, b, i), n in sorted(outcomes.items()) if (p, b) == (played, became)}
        rows.append(f"| {played} | {became} | {sum(by.values())} | {', '.join(f'{i} {n}' for i, n in by.items())} |")
    return "\n".join(rows) if len(rows) > 2 else ""


def _reliability(entries: list[Entry]) -> str:
    pairs = [p for e in entries for p in e.score.confidence]
    rows = ["| confidence | notes | mean confidence % | right % |", "|---|---|---|---|"]
    for low, high in itertools.pairwise(BINS):
        inside = [p for p in pairs if low <= p[0] < high]
        if inside:
            sure, right = np.mean([p[0] for p in inside]), np.mean([p[1] for p in inside])
            rows.append(f"| {low:.2f}-{min(high, 1):.2f} | {len(inside)} | {100 * sure:.1f} | {100 * right:.2f} |")
    return "\n".join(rows)


def plots(entries: list[Entry], folder: Path) -> None:
    """The reliability diagram and the spread of onset errors, as SVG."""
    import matplotlib as mpl

    mpl.use("Agg")
    import matplotlib.pyplot as plt

    folder.mkdir(parents=True, exist_ok=True)
    mpl.rcParams["svg.hashsalt"] = "didactor"
    figure, (left, right) = plt.subplots(1, 2, figsize=(9, 3.6))
    for voices, style in (("one", "o-"), ("many", "s--")):
        pairs = np.array([p for e in entries if e.scenario.voices == voices for p in e.score.confidence], dtype=float)
        if not len(pairs):
            continue
        points = [pairs[(pairs[:, 0] >= a) & (pairs[:, 0] < b)] for a, b in itertools.pairwise(BINS)]
        points = [p.mean(axis=0) for p in points if len(p) >= 10]
        left.plot(*np.array(points).T, style, label=f"{voices} voice{'s' if voices == 'many' else ''}")
        errors = [v for e in entries if e.scenario.voices == voices for v in e.score.onset_ms]
        right.hist(np.clip(errors, 0, 80), bins=40, histtype="step", density=True, label=voices)
    left.plot([0, 1], [0, 1], ":", color="grey")
    left.set(xlabel="confidence", ylabel="share right", xlim=(0.4, 1.01), ylim=(0.4, 1.01), title="Reliability")
    right.set(xlabel="onset error, ms", title="Onsets")
    left.legend()
    right.legend()
    figure.tight_layout()
    figure.savefig(folder / "accuracy.svg", metadata={"Date": None})
