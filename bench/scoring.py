"""One analysis against the truth of its take: counts and errors that add up over any group of takes."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from alike_skips import skip_as_claimed
from takes import Take

from didactor.core.analyse import Analysis
from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence
from didactor.core.judging.pulse import read_pulse
from didactor.core.judging.registry import Finding

#: Kind of fault to the finding that should name it; None where several notes make one finding elsewhere.
CODE_OF = {
    "wrong": "notes.wrong",
    "missed": "notes.missed",
    "extra": "notes.extra",
    "late": "rhythm.placement",
    "early": "rhythm.placement",
    "hesitation": "flow.hesitation",
    "restart": "flow.restart",
    "skip": "flow.skipped",
    "repeat": "flow.repeat_left_out",
    "entry": "rhythm.entry",
    "stroke": "rhythm.count",
    "key": "notes.key_signature",
    "octave": "notes.transposed",
    "transposed": "notes.transposed",
    "tuning": "intonation.tuning",
    "tuning_drift": "intonation.drift",
    "detuned": "intonation.note",
    "cut": "articulation.cut_short",
    "filled": "articulation.rest_filled",
    "flat": "dynamics.flat",
    "hand": "hands.apart",
    "covered": "dynamics.upper_voice",
    "uneven": "rhythm.uneven",
    "tempo": "tempo.off_target",
    "drift": "tempo.drift",
    "chord": "chords.wrong",
}
#: Findings about the whole take: their place is not compared.
WHOLE_TAKE = {
    "flow.repeat_left_out",
    "rhythm.entry",
    "rhythm.count",
    "notes.key_signature",
    "notes.transposed",
    "intonation.tuning",
    "intonation.drift",
    "dynamics.flat",
    "hands.apart",
    "dynamics.upper_voice",
    "rhythm.uneven",
    "tempo.off_target",
    "tempo.drift",
}
NEAR_BARS = 1
#: From here on a take as a whole is out of tune.
OUT_OF_TUNE_CENTS = 20.0
#: A claimed tuning of the take is true when it is this near.
NEAR_CENTS = 5.0
#: A note that chance displaced by this much is out of tune, and this share of a claimed displacement makes it a true one.
TRUE_CENTS, TRUE_SHARE = 20.0, 0.7


@dataclass
class Score:
    """Sums over takes. ``planted``, ``found`` and ``claimed`` count findings by code; errors are lists."""

    takes: int = 0
    refused: int = 0
    notes: int = 0
    judged: int = 0
    right: int = 0
    spotless: int = 0
    false_findings: int = 0
    faulty: int = 0
    accused: int = 0
    rightly: int = 0
    extra_planted: int = 0
    extra_found: int = 0
    extra_claimed: int = 0
    moments: int = 0
    moments_told: int = 0
    strokes: int = 0
    strokes_right: int = 0
    counts: int = 0
    counts_asked: int = 0
    counts_right: int = 0
    planted: Counter[str] = field(default_factory=Counter)
    found: Counter[str] = field(default_factory=Counter)
    claimed: Counter[str] = field(default_factory=Counter)
    outcomes: Counter[tuple[str, str, str]] = field(default_factory=Counter)
    onset_ms: list[float] = field(default_factory=list)
    cents: list[float] = field(default_factory=list)
    tuning_cents: list[float] = field(default_factory=list)
    tempo_percent: list[float] = field(default_factory=list)
    confidence: list[tuple[float, bool]] = field(default_factory=list)
    said: list[str] = field(default_factory=list)

    def add(self, other: Score) -> None:
        for name in self.__dataclass_fields__:
            setattr(self, name, getattr(self, name) + getattr(other, name))


def score(take: Take, analysis: Analysis) -> Score:
    """Compare. A refused recording counts as all its notes unjudged and one false finding."""
    result = Score(takes=1, notes=len(take.expectation.notes))
    label = f"{take.scenario.condition} · {take.scenario.instrument} {take.scenario.source} {take.scenario.room} {take.scenario.seed}"
    if analysis.evidence is None:
        result.refused, result.false_findings = 1, 1
        result.said.append(f"{label}: refused, {[p.code for p in analysis.quality.problems]}")
        result.planted.update(CODE_OF[f["kind"]] for f in take.truth["faults"])
        return result
    evidence = analysis.evidence
    skipped = skip_as_claimed(take, set(evidence.skipped_bars))
    _findings(result, take, analysis.findings, label, skipped[0] if skipped else None)
    _moments(result, take, analysis.findings)
    if take.scenario.voices == "chords":
        _chords(result, take, evidence, label)
        return result
    if take.scenario.voices in ("strokes", "clapped"):
        _count(result, take, evidence)
    if take.scenario.voices not in ("pulse", "said"):
        _notes(result, take, evidence, label, skipped[1] if skipped else {})
        _extras(result, take, evidence)
    _tempo(result, take, evidence)
    if not take.truth["degradations"] and evidence.tuning is not None and take.scenario.voices.split()[0] in ("one", "many"):
        played = [n["cents"] for n in take.truth["notes"]]
        if max(played) - min(played) < 34:
            result.tuning_cents.append(abs(evidence.tuning.offset_cents - _tuning(take)))
    return result


def _moments(result: Score, take: Take, findings: tuple[Finding, ...]) -> None:
    """Planted late moments that are told: a note that begins there is named as early or late, in whichever hand."""
    if not take.scenario.faults.startswith("moments"):
        return
    notes = take.expectation.notes
    planted = {notes[f["note"]].onset_quarters for f in take.truth["faults"]}
    named = {(i, f.pass_) for f in findings if f.code == "rhythm.placement" and (f.size or 0) > 0 for i in f.note_ids}
    told = {n.onset_quarters for n in notes if (n.id, n.pass_) in named}
    result.moments += len(planted)
    result.moments_told += len(planted & told)


def _truth_by_note(take: Take) -> dict[tuple[str, int], dict[str, Any]]:
    """What became of each written note: its last sound, as a note played again after a restart counts as played last."""
    return {(n["id"], n["pass"]): n for n in take.truth["notes"] if n["id"]}


def _tuning(take: Take) -> float:
    """Cents of the take's own pitch, as it sounds: the median over its notes."""
    return float(np.median([n["sounding_cents"] for n in take.truth["notes"] if not n["stroke"]]))


def _shift(take: Take) -> int:
    return sum(
        12 * int(f.get("octaves", -1)) if f["kind"] == "octave" else int(f["semitones"])
        for f in take.truth["faults"]
        if f["kind"] in ("octave", "transposed")
    )


def _notes(result: Score, take: Take, evidence: Evidence, label: str, renamed: dict[tuple[str, int], tuple[str, int]]) -> None:
    truth, shift = {renamed.get(key, key): note for key, note in _truth_by_note(take).items()}, _shift(take)
    strokes = take.scenario.voices in ("strokes", "clapped")
    errors: list[float] = []
    for item in evidence.notes:
        true = truth.get((item.note.id, item.note.pass_))
        should = Status.MISSED if true is None else Status.CORRECT
        if true is not None and not strokes and true["midi"] - shift != true["expected_midi"]:
            should = Status.WRONG_PITCH
        wrong, accused = should is not Status.CORRECT, item.status in (Status.WRONG_PITCH, Status.MISSED)
        result.faulty += wrong
        result.accused += accused
        result.rightly += wrong and accused
        if wrong:
            became = (
                f"not judged: {item.reason}" if item.status is Status.UNCERTAIN else "named" if item.status is should else str(item.status)
            )
            result.outcomes[str(should), became, take.scenario.instrument] += 1
        if item.status is not Status.UNCERTAIN:
            result.judged += 1
            result.right += item.status is should
            result.confidence.append((item.confidence, item.status is should))
            if item.status is not should:
                result.said.append(f"{label}: bar {item.note.bar} {item.note.written_pitch} {item.status}, is {should}")
        elif wrong:
            result.said.append(f"{label}: bar {item.note.bar} {item.note.written_pitch} not judged ({item.reason}), is {should}")
        if true is not None and item.onset_s is not None and item.status is Status.CORRECT and not item.note.grace:
            errors.append(1000 * (item.onset_s - true["sounding_onset_s"]))
        if true is not None and item.cents is not None and item.status is Status.CORRECT:
            result.cents.append(abs(item.cents + evidence.tuning.offset_cents - true["sounding_cents"]))
    if errors and not take.truth["degradations"]:
        # The sound's own attack is the same for all notes of a take: calibrated away.
        result.onset_ms += np.abs(np.array(errors) - np.median(errors)).tolist()


def _extras(result: Score, take: Take, evidence: Evidence) -> None:
    """Planted sounds without a written note against those claimed, by pitch and time."""
    strays = [n for n in take.truth["notes"] if n["id"] is None]
    result.extra_planted += len(strays)
    result.extra_claimed += len(evidence.extra)
    free = list(evidence.extra)
    for stray in strays:
        near = [e for e in free if abs(e.onset_s - stray["onset_s"]) < 0.15 and (stray["stroke"] or e.midi == stray["midi"] - _shift(take))]
        if near:
            free.remove(near[0])
            result.extra_found += 1


def _tempo(result: Score, take: Take, evidence: Evidence) -> None:
    """Played tempo against the truth's own span, where nothing interrupts the pulse."""
    kinds = {f["kind"] for f in take.truth["faults"]}
    if evidence.tempo.played_qpm is None or kinds & {"hesitation", "restart", "skip", "repeat", "drift", "ritardando", "uneven"}:
        return
    truth = _truth_by_note(take)
    placed = [(n.onset_quarters, truth[n.id, n.pass_]["onset_s"]) for n in take.expectation.notes if (n.id, n.pass_) in truth]
    first, last = placed[0], placed[-1]
    if last[0] > first[0]:
        true = 60 * (last[0] - first[0]) / (last[1] - first[1])
        result.tempo_percent.append(abs(100 * (evidence.tempo.played_qpm / true - 1)))


def _count(result: Score, take: Take, evidence: Evidence) -> None:
    result.counts_asked += 1
    if evidence.count is not None:
        result.counts += 1
        result.counts_right += evidence.count.played == len(take.truth["notes"])


def _chords(result: Score, take: Take, evidence: Evidence, label: str) -> None:
    """Each written stroke: was it heard, and with the right verdict on its chord."""
    truth: dict[tuple[str, int], str] = {(n["id"], n["pass"]): n["chord"] for n in take.truth["notes"] if n["id"]}
    written = {(c.note.id, c.note.pass_): c for c in evidence.chords or ()}
    for note in take.expectation.notes:
        key = (note.id, note.pass_)
        reading = written.get(key)
        if reading is None:
            continue
        wrong = truth.get(key) != reading.written
        accused = reading.status in (Status.WRONG_PITCH, Status.MISSED)
        result.faulty += wrong
        result.accused += accused
        result.rightly += wrong and accused
        result.strokes += 1
        if reading.status is Status.UNCERTAIN:
            continue
        result.judged += 1
        right = wrong == accused
        result.right += right
        result.strokes_right += right
        result.confidence.append((reading.confidence, right))
        if not right:
            result.said.append(
                f"{label}: bar {note.bar} beat {note.beat:g} {reading.written} {reading.status} ({reading.heard}), is {truth.get(key)}"
            )
    result.counts_asked += 1
    if evidence.count is not None:
        result.counts += 1
        result.counts_right += evidence.count.played == len({n["id"] or f"x{i}" for i, n in enumerate(take.truth["notes"])})


def _findings(result: Score, take: Take, findings: tuple[Finding, ...], label: str, skipped_from: tuple[str, int] | None) -> None:
    order = {(b.number, b.pass_): i for i, b in enumerate(take.expectation.bars)}
    free: list[tuple[str, int | None]] = []
    for fault in take.truth["faults"]:
        code = CODE_OF[fault["kind"]]
        if code == "intonation.tuning" and abs(_tuning(take)) < OUT_OF_TUNE_CENTS:
            continue  # the source's own tuning has made good for it
        place = None
        if code not in WHOLE_TAKE and "note" in fault:
            note = take.expectation.notes[fault["note"]]
            place = order[note.bar, note.pass_]
            if fault["kind"] == "skip" and skipped_from is not None:
                place = order[skipped_from]
            if fault["kind"] == "restart":
                place -= int(fault.get("bars", 1))  # the remark stands where the playing goes on
        # What is late in both hands at once is one fault, and one remark.
        once = ("chord",) if not take.scenario.faults.startswith("moments") else ("chord", "late")
        if (code, place) not in free or fault["kind"] not in once:
            free.append((code, place))
    result.planted.update(code for code, _ in free)
    for finding in findings:
        result.claimed[finding.code] += 1
        at = order.get((finding.bar, finding.pass_ or 1)) if finding.bar is not None else None
        for code, place in free:
            if code == finding.code and (place is None or at is None or abs(place - at) <= NEAR_BARS):
                free.remove((code, place))
                result.found[code] += 1
                break
        else:
            if not (_is_covered(finding, take) or _is_so(finding, take)):
                result.false_findings += 1
                result.said.append(f"{label}: false {finding.code}: {finding.text}")
            else:
                result.claimed[finding.code] -= 1
    result.said += [f"{label}: not found: {code} in bar {place}" for code, place in free]
    if not take.truth["faults"]:
        result.spotless = result.false_findings == 0


def _is_so(finding: Finding, take: Take) -> bool:
    """What chance did to a note is no planted fault, but a finding that says so is true: the truth itself is measured."""
    if finding.code == "intonation.tuning" and finding.size is not None:
        return abs(_tuning(take) - finding.size) < NEAR_CENTS
    if finding.code not in ("intonation.note", "rhythm.placement") or finding.size is None:
        return False
    truth = _truth_by_note(take)
    key = (finding.note_ids[0], finding.pass_ or 1)
    if key not in truth:
        return False
    if finding.code == "intonation.note":
        away = truth[key]["sounding_cents"] - _tuning(take)
        return abs(away) >= TRUE_CENTS and away * finding.size > 0
    known = [
        (n.onset_quarters, truth[n.id, n.pass_]["sounding_onset_s"], (n.id, n.pass_))
        for n in take.expectation.notes
        if (n.id, n.pass_) in truth
    ]
    moments = {q: [o for p, o, _ in known if p == q] for q in sorted({q for q, _, _ in known})}
    quarters, times = np.array(list(moments)), np.array([float(np.mean(v)) for v in moments.values()])
    beats = np.array([take.expectation.bar_at(q).beat_quarters for q in quarters])
    pulse = read_pulse(quarters, times, np.zeros(len(quarters), dtype=bool), beats, 60 / take.targets.tempo_qpm)
    if pulse is None:
        return False
    place = next(q for q, _, k in known if k == key)
    at = int(np.searchsorted(quarters, place))
    away = 1000 * (float(pulse.displaced_s[at]) + truth[key]["sounding_onset_s"] - times[at])
    return away * finding.size > 0 and abs(away) >= TRUE_SHARE * abs(finding.size)


def _is_covered(finding: Finding, take: Take) -> bool:
    """A second finding about a planted fault, true as well: a pattern that names it again, or several notes of one chord."""
    notes = set(finding.note_ids)
    for fault in take.truth["faults"]:
        named = "note" in fault and take.expectation.notes[fault["note"]].id in notes
        if CODE_OF[fault["kind"]] == finding.code and (finding.code in WHOLE_TAKE or named):
            return True
        if finding.code == "tempo.off_target" and fault["kind"] in ("drift", "ritardando"):
            return True  # rushing all the way ends above the target
        if finding.code.startswith("pattern.") and (named or "note" not in fault):
            return True
    return False
