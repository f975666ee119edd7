"""Faults of pitch, length and loudness."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from didactor.core.score.expected import Expectation
from didactor.core.sound.player.faults.places import Fault, Notes, place


def wrong(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = place(notes, fault, expectation)
    notes[at] = replace(notes[at], midi=notes[at].midi + int(fault.get("semitones", 1)))
    return notes


def missed(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = place(notes, fault, expectation)
    return notes[:at] + notes[at + 1 :]


def extra(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = place(notes, fault, expectation)
    note, share = notes[at], float(fault.get("share", 0.55))
    following = [n.onset_s for n in notes if n.onset_s > note.onset_s + 0.04 and n.staff == note.staff]
    end = min(following, default=note.offset_s)
    begin = note.onset_s + share * (end - note.onset_s)
    midi = note.midi + int(fault.get("semitones", 2))
    stray = replace(note, id="", onset_s=begin, offset_s=begin + 0.9 * (end - begin), midi=midi, expected_midi=None)
    if share > 0:
        notes[at] = replace(note, offset_s=min(note.offset_s, begin))
    return [*notes[: at + 1], stray, *notes[at + 1 :]]


def key(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    step = str(fault["step"])
    natural = {
        (n.id, n.pass_): -1 if n.written_pitch[1] == "#" else 1
        for n in expectation.notes
        if n.written_pitch[0] == step and n.written_pitch[1] in "#b"
    }
    return [replace(n, midi=n.midi + natural.get((n.id, n.pass_), 0)) for n in notes]


def transposed(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    return [replace(n, midi=n.midi + int(fault["semitones"])) for n in notes]


def octave(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    return [replace(n, midi=n.midi + 12 * int(fault.get("octaves", -1))) for n in notes]


def tuning(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    return [replace(n, cents=n.cents + float(fault.get("cents", -30))) for n in notes]


def tuning_drift(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    first, last = notes[0].onset_s, max(notes[-1].onset_s, notes[0].onset_s + 1e-3)
    return [replace(n, cents=n.cents + float(fault.get("cents", -40)) * (n.onset_s - first) / (last - first)) for n in notes]


def detuned(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = place(notes, fault, expectation)
    notes[at] = replace(notes[at], cents=notes[at].cents + float(fault.get("cents", -45)))
    return notes


def cut(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = place(notes, fault, expectation)
    length = notes[at].offset_s - notes[at].onset_s
    notes[at] = replace(notes[at], offset_s=notes[at].onset_s + max(0.06, float(fault.get("share", 0.4)) * length))
    return notes


def filled(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    at = place(notes, fault, expectation)
    following = [n.onset_s for n in notes if n.quarters > notes[at].quarters + 1e-6 and n.staff == notes[at].staff]
    if following:
        notes[at] = replace(notes[at], offset_s=min(following) - 0.01)
    return notes


def flat(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    mean = round(float(np.mean([n.velocity for n in notes])))
    return [replace(n, velocity=mean) for n in notes]


def covered(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    softer = int(fault.get("velocity", 32))
    return [replace(n, velocity=int(np.clip(n.velocity + (softer // 3 if n.staff > 1 else -softer), 20, 120))) for n in notes]


def voicing(notes: Notes, fault: Fault, expectation: Expectation) -> Notes:
    softer = int(fault.get("velocity", 16))
    chords: dict[tuple[int, float], list[int]] = {}
    for k, note in enumerate(notes):
        chords.setdefault((note.staff, round(note.quarters, 6)), []).append(k)
    tops = {max(own, key=lambda k: notes[k].midi) for own in chords.values() if len(own) > 1}
    return [replace(n, velocity=int(np.clip(n.velocity - softer, 15, 120))) if k in tops else n for k, n in enumerate(notes)]
