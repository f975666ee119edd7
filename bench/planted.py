"""What is wrong with a take of ``bench/accuracy``: faults chosen by the scenario, as the simulated player takes them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from didactor.core.instruments import BY_SLUG
from didactor.core.score.expected import Expectation

#: The shortest note that is put out of tune.
AUDIBLE_S = 0.4
#: The least time around a note that is put out of its place.
ROOM_S = 0.28

#: The share of notes that are missed or wrong in takes made to fit to.
HOLES = 0.125


@dataclass(frozen=True, kw_only=True)
class Scenario:
    """One take to make: everything that decides how it sounds, as plain values."""

    set: str
    voices: str
    condition: str
    instrument: str
    source: str
    room: str
    seed: int
    manner: str
    faults: str = ""
    style: str = "trained"
    degradations: list[dict[str, Any]] = field(default_factory=list)


def planted(scenario: Scenario, expectation: Expectation, tempo: float, rng: np.random.Generator) -> list[dict[str, Any]]:
    kind, notes = scenario.faults, expectation.notes
    if not kind:
        return []
    count = len(notes)
    if kind.startswith("beside"):
        return _beside(expectation, kind.split()[1], rng)
    if kind.startswith("holes"):
        softer = [{"kind": "covered", "velocity": int(rng.integers(20, 56))}] if "covered" in kind else []
        return [*_holes(expectation, rng), *softer]
    if kind.startswith("moments"):
        return _late_moments(expectation, float(kind.split()[1]), tempo, rng)
    if kind == "mixed":
        return _chord_faults(expectation, rng) if scenario.voices == "chords" else _mixed(scenario, expectation, tempo, rng)
    middle = int(rng.integers(count // 3, 2 * count // 3))
    bar = next(b for b in expectation.bars if (b.number, b.pass_) == (notes[middle].bar, notes[middle].pass_))
    at = {"bar": bar.number, "pass": bar.pass_, "note": next(i for i, n in enumerate(notes) if (n.bar, n.pass_) == (bar.number, bar.pass_))}
    long = [i for i, n in enumerate(notes[:-1]) if n.duration_quarters >= 2 * expectation.bar_at(n.onset_quarters).beat_quarters]
    rests = [
        i
        for i in range(count - 1)
        if notes[i + 1].onset_quarters - notes[i].onset_quarters - notes[i].duration_quarters >= 0.99
        and notes[i].staff == notes[i + 1].staff
    ]
    # Nobody hears 40 cents in a note of a tenth of a second.
    audible = [i for i, n in enumerate(notes) if n.duration_quarters * 60 / tempo >= AUDIBLE_S]
    accidentals = sorted({n.written_pitch[0] for n in notes if n.written_pitch[1] in "#b"})
    sign = float(rng.choice([-1, 1]))
    made: dict[str, list[dict[str, Any]]] = {
        "tempo": [{"kind": "tempo", "factor": float(rng.choice([0.8, 0.87, 1.13, 1.2]))}],
        "drift": [{"kind": "drift", "percent": sign * float(rng.uniform(1.2, 2.2))}],
        "uneven": [{"kind": "uneven", "percent": float(rng.choice([60, 64, 67]))}],
        "octave": [{"kind": "octave", "octaves": octaves} for octaves in _octaves(scenario, expectation, int(sign))[:1]],
        "tuning": [{"kind": "tuning", "cents": sign * float(rng.uniform(22, 40))}],
        "tuning_drift": [{"kind": "tuning_drift", "cents": sign * float(rng.uniform(35, 60))}],
        "key": [{"kind": "key", "step": str(rng.choice(accidentals))}] if accidentals else [],
        "restart": [{"kind": "restart", "note": at["note"] + int(rng.integers(0, 3)), "bars": int(rng.integers(1, 3))}],
        "skip": [{"kind": "skip", "note": at["note"], "bars": int(rng.integers(1, 3))}],
        "repeat": [{"kind": "repeat"}] if any(b.pass_ > 1 for b in expectation.bars) else [],
        "cut": [{"kind": "cut", "note": int(i), "share": 0.4} for i in long[:3]],
        "filled": [{"kind": "filled", "note": int(i)} for i in rests[:3]],
        "flat": [{"kind": "flat"}] if len({n.dynamics for n in notes}) > 1 else [],
        "hand": [{"kind": "hand", "ms": sign * float(rng.uniform(55, 90)), "staff": int(rng.choice([1, 2]))}],
        "detuned": [
            {"kind": "detuned", "note": int(i), "cents": float(rng.choice([-45, -35, 35, 45]))} for i in rng.permutation(audible)[:3]
        ],
        "extras": _extras(expectation, rng) if kind == "extras" else [],
        "covered": [{"kind": "covered", "velocity": 32}],
        "entry": [{"kind": "entry", "beats": float(rng.choice([-0.5, 0.5, 1.0]))}],
        "stroke": [{"kind": "stroke", "count": 1}],
        "hesitation": [{"kind": "hesitation", "note": middle, "beats": float(rng.uniform(1.2, 2.5))}],
    }
    return made[kind]


def _octaves(scenario: Scenario, expectation: Expectation, wanted: int) -> list[int]:
    """Up or down, the wanted one first, where the instrument has such notes."""
    instrument, pitches = BY_SLUG[scenario.instrument], [n.sounding_midi for n in expectation.notes]
    return [o for o in (wanted, -wanted) if instrument.low <= min(pitches) + 12 * o and max(pitches) + 12 * o <= instrument.high]


def _room_s(expectation: Expectation, index: int, tempo: float) -> float:
    """Seconds between a note and the nearer of its neighbours in the same staff."""
    note = expectation.notes[index]
    away = [abs(n.onset_quarters - note.onset_quarters) for n in expectation.notes if n.staff == note.staff]
    return min([a for a in away if a > 1e-6], default=4.0) * 60 / tempo


def _mixed(scenario: Scenario, expectation: Expectation, tempo: float, rng: np.random.Generator) -> list[dict[str, Any]]:
    """Wrong, missed, extra and displaced notes, well apart, and a hesitation."""
    count = len(expectation.notes)
    gap = 4 if scenario.voices != "many" else 7
    places = [int(p) for p in rng.permutation(np.arange(3, count - 3, gap))]
    shifts = [-2, -1, 1, 2] if scenario.voices != "many" else [-2, -1, 1, 2, 12]
    kinds: list[dict[str, Any]] = [{"kind": "wrong", "semitones": int(rng.choice(shifts))} for _ in range(2)]
    kinds += [{"kind": "missed"}, {"kind": "missed"}]
    kinds += [{"kind": "extra", "semitones": int(rng.choice([-3, -2, 2, 3]))}]
    displaced = {"kind": str(rng.choice(["late", "early"])), "ms": float(rng.uniform(130, 190))}
    # A note displaced by its own length would change places with its neighbour.
    roomy = [p for p in places[5:] + places[:5] if _room_s(expectation, p, tempo) > ROOM_S]
    if roomy:
        places.remove(roomy[0])
        places.insert(5, roomy[0])
    kinds += [displaced]
    if scenario.voices in ("strokes", "clapped"):
        kinds = [{"kind": "missed"}, {"kind": "extra", "semitones": 0}, {"kind": "late", "ms": 150.0}]
    faults = [{**kind, "note": place} for kind, place in zip(kinds, places, strict=False)]
    if len(places) > len(kinds):
        faults.append({"kind": "hesitation", "note": places[len(kinds)], "beats": float(rng.uniform(1.3, 2.4))})
    return faults


def _beside(expectation: Expectation, kind: str, rng: np.random.Generator) -> list[dict[str, Any]]:
    """Two bursts of two to four neighbouring moments, all that begins there missed or wrong; or the first and the last moment."""
    notes = expectation.notes
    moments = sorted({n.onset_quarters for n in notes})
    if kind == "ends":
        chosen = {moments[0]: "wrong" if rng.random() < 0.5 else "missed", moments[-1]: "wrong" if rng.random() < 0.5 else "missed"}
    else:
        chosen = {}
        first = int(rng.integers(3, max(4, len(moments) // 2 - 5)))
        for begin in (first, first + len(moments) // 2 - 2):
            chosen |= dict.fromkeys(moments[begin : begin + int(rng.integers(2, 5))], kind)
    faults: list[dict[str, Any]] = []
    for index, note in enumerate(notes):
        fault = chosen.get(note.onset_quarters)
        if fault == "missed":
            faults.append({"kind": "missed", "note": index})
        elif fault == "wrong":
            faults.append({"kind": "wrong", "note": index, "semitones": int(rng.choice([-2, -1, 1, 2]))})
    return faults


def _holes(expectation: Expectation, rng: np.random.Generator) -> list[dict[str, Any]]:
    """Every eighth note missed or wrong, wherever it falls: many examples of keys that are written and not struck, to fit to."""
    faults: list[dict[str, Any]] = []
    for index in np.flatnonzero(rng.random(len(expectation.notes)) < HOLES):
        if rng.random() < 0.5:
            faults.append({"kind": "missed", "note": int(index)})
        else:
            faults.append({"kind": "wrong", "note": int(index), "semitones": int(rng.choice([-12, -4, -3, -2, -1, 1, 2, 3, 4, 12]))})
    return faults


def _late_moments(expectation: Expectation, ms: float, tempo: float, rng: np.random.Generator) -> list[dict[str, Any]]:
    """Two moments of the whole take, well apart, with all that begins there late; none beside it is so near that it would be passed."""
    moments = sorted({n.onset_quarters for n in expectation.notes})
    gaps = {q: min(b - q for b in moments if b > q) for q in moments[:-1]}
    roomy = [q for q in moments[3:-3] if gaps[q] * 60 / tempo > 2 * ms / 1000]
    chosen: list[float] = []
    for q in rng.permutation(roomy):
        if len(chosen) < 2 and all(abs(q - c) > 6 for c in chosen):
            chosen.append(float(q))
    staves = {(n.onset_quarters, n.staff): i for i, n in reversed(list(enumerate(expectation.notes)))}
    return [{"kind": "late", "note": i, "ms": ms} for (q, _), i in sorted(staves.items(), key=lambda e: e[1]) if q in chosen]


def _extras(expectation: Expectation, rng: np.random.Generator) -> list[dict[str, Any]]:
    """Neighbouring keys struck with a note or after it, none of which is due or sounding then."""
    notes, faults = expectation.notes, []
    for at in rng.permutation(np.arange(3, len(notes) - 3, 9))[:4]:
        note, semitones = notes[at], int(rng.choice([-3, -2, -1, 1, 2, 3]))
        around = [
            n
            for n in notes
            if n.onset_quarters < note.onset_quarters + 1.5 and n.onset_quarters + n.duration_quarters > note.onset_quarters - 0.5
        ]
        if all(n.sounding_midi != note.sounding_midi + semitones for n in around):
            faults.append({"kind": "extra", "note": int(at), "semitones": semitones, "share": float(rng.choice([0.0, 0.0, 0.55]))})
    return faults


def _chord_faults(expectation: Expectation, rng: np.random.Generator) -> list[dict[str, Any]]:
    """A chord not changed in time (the one before goes on), and another chord."""
    notes, chords = expectation.notes, expectation.chords
    faults = []
    for number, k in enumerate(rng.permutation(np.arange(1, len(chords)))[:3]):
        begin = chords[int(k)].onset_quarters
        end = chords[int(k) + 1].onset_quarters if k + 1 < len(chords) else expectation.length_quarters
        inside = [i for i, n in enumerate(notes) if begin - 1e-6 <= n.onset_quarters < end - 1e-6]
        symbol = (
            chords[int(k) - 1].text
            if number == 0
            else str(rng.choice([c for c in ("E", "Am", "C", "Dm", "A") if c != chords[int(k)].text]))
        )
        if symbol != chords[int(k)].text:
            faults += [{"kind": "chord", "note": i, "chord": symbol} for i in inside]
    return faults
