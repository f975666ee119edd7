"""Conversions between units, all in one place. Names have the form ``x_to_y``."""

from __future__ import annotations

import math
import re
from typing import TYPE_CHECKING, overload

if TYPE_CHECKING:
    from didactor.core.arrays import FloatArray
from didactor.core.words import _

A4_HZ = 440.0
A4_MIDI = 69
STEP_SEMITONES = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}
ACCIDENTALS = {-2: "bb", -1: "b", 0: "", 1: "#", 2: "##"}

#: Length in quarters of the note value a tempo can be counted in.
BEAT_UNIT_QUARTERS = {
    "whole": 4.0,
    "half": 2.0,
    "dotted_half": 3.0,
    "quarter": 1.0,
    "dotted_quarter": 1.5,
    "eighth": 0.5,
    "dotted_eighth": 0.75,
    "sixteenth": 0.25,
}


#: The same in words.
BEAT_UNIT_NAMES = {
    "whole": _("whole"),
    "half": _("half"),
    "dotted_half": _("dotted half"),
    "quarter": _("quarter"),
    "dotted_quarter": _("dotted quarter"),
    "eighth": _("eighth"),
    "dotted_eighth": _("dotted eighth"),
    "sixteenth": _("sixteenth"),
}


@overload
def hz_to_midi(frequency_hz: float, a4_hz: float = ...) -> float: ...
@overload
def hz_to_midi(frequency_hz: FloatArray, a4_hz: float = ...) -> FloatArray: ...
def hz_to_midi(frequency_hz: float | FloatArray, a4_hz: float = A4_HZ) -> float | FloatArray:
    """Frequency (Hz, > 0) to a fractional MIDI number in equal temperament at ``a4_hz``."""
    # Here, so that reading and engraving, which need no arrays, start quicker.
    import numpy as np

    return A4_MIDI + 12.0 * np.log2(np.maximum(frequency_hz, 1e-6) / a4_hz)


def midi_to_hz(midi: float, a4_hz: float = A4_HZ) -> float:
    """MIDI number, fractional allowed, to Hz in equal temperament at ``a4_hz``."""
    return float(a4_hz * 2.0 ** ((midi - A4_MIDI) / 12.0))


def pitch_to_midi(step: str, alter: float, octave: int) -> int:
    """Spelled pitch (C4 = middle C = 60) to the nearest MIDI number."""
    return round(12 * (octave + 1) + STEP_SEMITONES[step] + alter)


def pitch_to_name(step: str, alter: float, octave: int) -> str:
    """Spelled pitch to a plain name such as ``Eb4`` or ``F#3``."""
    return f"{step}{ACCIDENTALS.get(round(alter), '')}{octave}"


def name_to_pitch(name: str) -> tuple[str, int, int]:
    """Plain name such as ``Eb4`` to step, alter and octave. Raises ``ValueError`` for anything else."""
    match = re.fullmatch(r"([A-G])(bb|b|##|#)?(-?\d+)", name)
    if match is None:
        raise ValueError(f"not a pitch: {name!r}")
    return match[1], {"": 0, "b": -1, "#": 1, "bb": -2, "##": 2}[match[2] or ""], int(match[3])


def name_to_midi(name: str) -> int:
    """Plain name such as ``Eb4`` to its MIDI number. Raises ``ValueError`` for anything else."""
    return pitch_to_midi(*name_to_pitch(name))


def midi_to_name(midi: int) -> str:
    """MIDI number to a plain name, black keys as they are mostly called: C#, Eb, F#, Ab, Bb."""
    return f"{('C', 'C#', 'D', 'Eb', 'E', 'F', 'F#', 'G', 'Ab', 'A', 'Bb', 'B')[midi % 12]}{midi // 12 - 1}"


def amplitude_to_db(amplitude: float) -> float:
    """Linear amplitude (1.0 = full scale) to dBFS, with a floor at -120 dB."""
    return 20.0 * math.log10(max(amplitude, 1e-6))


def beat_unit_of(beat_quarters: float) -> str:
    """The beat unit that lasts so many quarters; the quarter where none does."""
    return next((unit for unit, quarters in BEAT_UNIT_QUARTERS.items() if abs(quarters - beat_quarters) < 1e-6), "quarter")


def beats_to_quarters_per_minute(beats_per_minute: float, beat_unit: str) -> float:
    """Tempo in ``beat_unit`` per minute to quarters per minute."""
    return beats_per_minute * BEAT_UNIT_QUARTERS[beat_unit]


def quarters_to_beats_per_minute(quarters_per_minute: float, beat_unit: str) -> float:
    """Tempo in quarters per minute to ``beat_unit`` per minute."""
    return quarters_per_minute / BEAT_UNIT_QUARTERS[beat_unit]
