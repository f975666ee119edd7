"""Melodies for the benchmarks, from seeded generators: stepwise with leaps, several metres and keys, repeated notes, rests."""

from __future__ import annotations

import numpy as np

from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation, expect
from didactor.core.score.musicxml import prepare, read
from didactor.core.score.write import Line, write_musicxml

SCALES = {0: "C D E F G A B", 1: "G A B C D E F#", 2: "D E F# G A B C#", -1: "F G A Bb C D E", -2: "Bb C D Eb F G A"}
RHYTHMS = {
    4: ["q q q q", "h q q", "q e e q q", "e e e e q q", "q. e h", "q q h", "e e q e e q", "q s s e q e e", "h. q"],
    3: ["q q q", "h q", "q e e q", "e e e e q", "q. e q", "h."],
    6: ["q e q e", "e e e q.", "q. e e e", "q. q.", "e e e e e e"],
}


def melody(instrument: Instrument, seed: int, bars: int = 12) -> Expectation:
    """A seeded melody within a comfortable range of the instrument, as expected notes."""
    rng = np.random.default_rng(seed)
    fifths = int(rng.choice(list(SCALES)))
    metre = int(rng.choice([4, 4, 3, 6]))
    names = _ladder(fifths, instrument, rng)
    position, text = len(names) // 3, []
    for bar in range(bars):
        rhythm = str(rng.choice(RHYTHMS[metre])).split()
        tokens = []
        for value in rhythm:
            if rng.random() < 0.06 and bar and tokens:
                tokens.append(f"r:{value}")
                continue
            step = int(rng.choice([-1, 1, 0, 2, -2, 3, -4, 4], p=[0.27, 0.27, 0.08, 0.12, 0.12, 0.06, 0.04, 0.04]))
            position = int(np.clip(position + step, 0, len(names) - 1))
            tokens.append(f"{names[position]}:{value}")
        text.append(" ".join(tokens))
    beats, beat_type = {4: (4, 4), 3: (3, 4), 6: (6, 8)}[metre]
    xml = write_musicxml([Line(text=" | ".join(text), name=instrument.title, fifths=fifths, beats=beats, beat_type=beat_type)])
    return expect(read(prepare(xml)).parts[0])


def _ladder(fifths: int, instrument: Instrument, rng: np.random.Generator) -> list[str]:
    """About an octave and a half of scale notes, as names, in the instrument's lower middle range."""
    from didactor.core.units import pitch_to_midi

    centre = instrument.low + 0.35 * (instrument.high - instrument.low) + float(rng.uniform(-3, 3))
    notes = []
    for octave in range(1, 8):
        for name in SCALES[fifths].split():
            alter = {"#": 1, "b": -1}.get(name[1:], 0)
            midi = pitch_to_midi(name[0], alter, octave)
            if abs(midi - centre) <= 10:
                notes.append((midi, f"{name}{octave}"))
    return [name for _, name in sorted(notes)]
