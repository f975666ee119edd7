"""Music for the benchmarks, from seeded generators; the fit set and the held-out set use different ones.

``steps`` wanders by steps and leaps through a table of rhythms; ``motifs`` makes a motif and lets it climb, fall, turn and
come back, with held notes and rests at the ends of its phrases, slurs, dynamics and a repeat. Both come as one line, as two hands
at a piano, and as two parts on a guitar; charts have chord symbols over strummed rhythms.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from didactor.core.instruments import Instrument
from didactor.core.score.expected import Expectation, expect
from didactor.core.score.model import Part
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.write.as_musicxml import VALUES, Line, write_musicxml
from didactor.core.units import pitch_to_midi

SCALES = {
    0: "C D E F G A B",
    1: "G A B C D E F#",
    2: "D E F# G A B C#",
    3: "A B C# D E F# G#",
    -1: "F G A Bb C D E",
    -2: "Bb C D Eb F G A",
    -3: "Eb F G Ab Bb C D",
}
METRES = {4: (4, 4), 3: (3, 4), 6: (6, 8)}
RHYTHMS = {
    4: ["q q q q", "h q q", "q e e q q", "e e e e q q", "q. e h", "q q h", "e e q e e q", "q s s e q e e", "h. q"],
    3: ["q q q", "h q", "q e e q", "e e e e q", "q. e q", "h."],
    6: ["q e q e", "e e e q.", "q. e e e", "q. q.", "e e e e e e"],
}
MOTIF_RHYTHMS = {
    4: ["q e e q q", "e e e e q q", "q. e q q", "e e q h", "s s s s q e e q", "q q e e e e", "e q e q q"],
    3: ["q e e q", "e e e e q", "q. e q", "q q e e", "s s s s q q"],
    6: ["e e e q e", "q e e e e", "q. e e e", "e e e e e e"],
}
ENDINGS = {4: ["h. r:q", "h h", "q q h", "h r:h"], 3: ["h.", "h r:q", "q h"], 6: ["q. q.", "q. q r:e", "h."]}
DYNAMICS = ("p", "mf", "f", "mp")
MANY = ("two_hands", "guitar_parts")


def melody(instrument: Instrument, seed: int, bars: int = 12, manner: str = "steps") -> Expectation:
    """A seeded line within a comfortable range of the instrument, as expected notes."""
    return _expect(_line(instrument, np.random.default_rng(seed), bars, manner))


def part(instrument: Instrument, seed: int, bars: int = 12, manner: str = "steps") -> Part:
    """The same as the part that is read."""
    return _read(_line(instrument, np.random.default_rng(seed), bars, manner))


def _expect(line: Line) -> Expectation:
    return expect(_read(line))


def _read(line: Line) -> Part:
    return read(prepare(write_musicxml([line]))).parts[0]


def _line(instrument: Instrument, rng: np.random.Generator, bars: int, manner: str) -> Line:
    fifths = int(rng.choice(list(SCALES)))
    metre = int(rng.choice([4, 4, 3, 6]))
    names = _ladder(SCALES[fifths], instrument.low + 0.35 * (instrument.high - instrument.low) + float(rng.uniform(-3, 3)), 10)
    text = _steps(names, metre, bars, rng) if manner == "steps" else _motifs(names, metre, bars, rng)
    beats, beat_type = METRES[metre]
    return Line(text=text, name=instrument.title, fifths=fifths, beats=beats, beat_type=beat_type)


def _steps(names: list[str], metre: int, bars: int, rng: np.random.Generator) -> str:
    position, text = len(names) // 3, []
    for bar in range(bars):
        tokens = []
        for value in str(rng.choice(RHYTHMS[metre])).split():
            if rng.random() < 0.06 and bar and tokens:
                tokens.append(f"r:{value}")
                continue
            step = int(rng.choice([-1, 1, 0, 2, -2, 3, -4, 4], p=[0.27, 0.27, 0.08, 0.12, 0.12, 0.06, 0.04, 0.04]))
            position = int(np.clip(position + step, 0, len(names) - 1))
            tokens.append(f"{names[position]}:{value}")
        text.append(" ".join(tokens))
    return " | ".join(text)


def _motifs(names: list[str], metre: int, bars: int, rng: np.random.Generator) -> str:
    """Phrases of four bars: a motif, its copy elsewhere, its mirror, an ending."""
    text: list[str] = []
    repeat_at = 4 if bars >= 8 and rng.random() < 0.5 else 0
    while len(text) < bars:
        rhythm = str(rng.choice(MOTIF_RHYTHMS[metre])).split()
        shape = np.cumsum(rng.choice([-2, -1, -1, 0, 1, 1, 2, 3], len(rhythm))) - 1
        home = int(rng.integers(2, max(3, len(names) - 6)))
        slurred = rng.random() < 0.4
        loudness = f"!{rng.choice(DYNAMICS)}" if rng.random() < 0.7 else ""
        for number in range(3):
            offset = home + int(rng.choice([-2, -1, 1, 2])) * number
            line = shape if number < 2 or rng.random() < 0.5 else -shape
            tokens = [f"{names[int(np.clip(offset + s, 0, len(names) - 1))]}:{v}" for s, v in zip(line, rhythm, strict=True)]
            if slurred:
                tokens[0] += "("
                tokens[-1] += ")"
            if number == 0 and loudness:
                tokens[0] += loudness
            text.append(" ".join(tokens))
        ending = str(rng.choice(ENDINGS[metre])).split()
        notes = [names[int(np.clip(home + s, 0, len(names) - 1))] for s in rng.choice([-2, -1, 0, 1, 2], len(ending))]
        text.append(" ".join(v if ":" in v else f"{n}:{v}" for v, n in zip(ending, notes, strict=True)))
    text = text[: max(4, bars)]
    joined = " | ".join(text)
    return f"|: {' | '.join(text[:repeat_at])} :| {' | '.join(text[repeat_at:])}" if repeat_at else joined


def _ladder(scale: str, centre: float, reach: int) -> list[str]:
    """Scale notes within ``reach`` semitones of ``centre``, as names."""
    notes = []
    for octave in range(8):
        for name in scale.split():
            midi = pitch_to_midi(name[0], {"#": 1, "b": -1}.get(name[1:], 0), octave)
            if abs(midi - centre) <= reach:
                notes.append((midi, f"{name}{octave}"))
    return [name for _, name in sorted(notes)]


# --- many voices ------------------------------------------------------------------------------------------------------


def two_hands(seed: int, bars: int = 8, manner: str = "steps") -> Expectation:
    """A line over an accompaniment: broken chords, block chords, octaves, or a second line."""
    return expect(two_hands_part(seed, bars, manner))


def two_hands_part(seed: int, bars: int = 8, manner: str = "steps") -> Part:
    """The same as the part that is read."""
    rng = np.random.default_rng(seed)
    fifths, metre = int(rng.choice(list(SCALES))), int(rng.choice([4, 4, 3, 6]))
    upper = _ladder(SCALES[fifths], 72 + float(rng.uniform(-2, 4)), 9)
    text = (_steps if manner == "steps" else _motifs)(upper, metre, bars, rng)
    if manner == "motifs" and rng.random() < 0.6:
        text = _thickened(text, upper)
    count = len(_bars_of(text))
    kinds = ("broken", "block", "octaves") if manner == "steps" else ("broken", "line", "waltz", "block")
    lower = _accompaniment(SCALES[fifths], metre, count, rng, str(rng.choice(kinds)), 50.0)
    beats, beat_type = METRES[metre]
    return _read(Line(text=text, lower=" | ".join(lower), name="Piano", fifths=fifths, beats=beats, beat_type=beat_type))


def _bars_of(text: str) -> list[str]:
    return [b for b in text.replace("|:", "|").replace(":|", "|").split("|") if b.strip()]


def _thickened(text: str, names: list[str]) -> str:
    """Now and then a third below in the same hand."""
    words = []
    for number, word in enumerate(text.split()):
        name = word.split(":")[0]
        below = names.index(name) - 2 if name in names else -1
        words.append(f"{names[below]}+{word}" if below >= 0 and number % 5 == 2 and not word.startswith((":", "|")) else word)
    return " ".join(words)


def _accompaniment(scale: str, metre: int, bars: int, rng: np.random.Generator, kind: str, centre: float) -> list[str]:
    names = _ladder(scale, centre, 12)
    root_of = list(names[:8])
    result = []
    for _ in range(bars):
        root = int(rng.choice([0, 3, 4, 5]))
        low, third, fifth = (names[min(root + k, len(names) - 1)] for k in (0, 2, 4))
        octave = names[min(root + 7, len(names) - 1)]
        block = f"{low}+{third}+{fifth}"
        patterns = {
            ("broken", 4): f"{low}:e {fifth}:e {third}:e {fifth}:e {low}:e {fifth}:e {third}:e {fifth}:e",
            ("broken", 3): f"{low}:e {third}:e {fifth}:e {third}:e {fifth}:e {third}:e",
            ("broken", 6): f"{low}:e {third}:e {fifth}:e {low}:e {third}:e {fifth}:e",
            ("block", 4): f"{block}:h {block}:h",
            ("block", 3): f"{block}:h.",
            ("block", 6): f"{block}:q. {block}:q.",
            ("octaves", 4): f"{low}+{octave}:h {low}+{octave}:q {low}+{octave}:q",
            ("octaves", 3): f"{low}+{octave}:h {low}+{octave}:q",
            ("octaves", 6): f"{low}+{octave}:q. {low}+{octave}:q.",
            ("waltz", 4): f"{low}:q {third}+{fifth}:q {low}:q {third}+{fifth}:q",
            ("waltz", 3): f"{low}:q {third}+{fifth}:q {third}+{fifth}:q",
            ("waltz", 6): f"{low}:q {third}+{fifth}:e {low}:q {third}+{fifth}:e",
        }
        if kind == "line":
            values = {4: ["h h", "q q h", "w"], 3: ["h.", "h q", "q q q"], 6: ["q. q.", "h."]}[metre]
            result.append(" ".join(f"{rng.choice(root_of)}:{v}" for v in str(rng.choice(values)).split()))
        else:
            result.append(patterns[kind, metre])
    return result


def guitar_parts(seed: int, bars: int = 8, manner: str = "steps", low: int = 40) -> Expectation:
    """A line over bass notes, as on a guitar (or, with ``low`` 60, a ukulele)."""
    rng = np.random.default_rng(seed)
    fifths, metre = int(rng.choice([0, 1, 2, 3])), int(rng.choice([4, 3]))
    names = _ladder(SCALES[fifths], low + 25, 8)
    text = (_steps if manner == "steps" else _motifs)(names, metre, bars, rng)
    bass = _ladder(SCALES[fifths], low + 7, 7)
    count = len(_bars_of(text))
    values = {4: ["h h", "w", "q q q q"], 3: ["h.", "h q"]}[metre]
    lower = [" ".join(f"{rng.choice(bass)}:{v}" for v in str(rng.choice(values)).split()) for _ in range(count)]
    beats, beat_type = METRES[metre]
    return _expect(Line(text=text, lower=" | ".join(lower), name="Guitar", fifths=fifths, beats=beats, beat_type=beat_type))


# --- charts and strokes -----------------------------------------------------------------------------------------------

PROGRESSIONS = ("C G Am F", "G D Em C", "D A G A", "Am F C G", "C F G7 C", "Em C G D", "A D E7 A", "Dm C F G", "G C D7 G")
STRUMS = ("q q q q", "q e e q e e", "h q q", "q q e e q", "e e e e q q")


def chart(seed: int, instrument: Instrument, bars: int = 8) -> Expectation:
    """Chord symbols, one or two a bar, over a strummed rhythm."""
    rng = np.random.default_rng(seed)
    chords = str(rng.choice(PROGRESSIONS)).split()
    rhythm = str(rng.choice(STRUMS)).split()
    two_a_bar = rng.random() < 0.3
    text = []
    for bar in range(bars):
        tokens, elapsed = [], 0.0
        for value in rhythm:
            chord = ""
            if elapsed == 0:
                chord = f"@{chords[(2 * bar if two_a_bar else bar) % len(chords)]}"
            elif two_a_bar and abs(elapsed - 2.0) < 1e-6:
                chord = f"@{chords[(2 * bar + 1) % len(chords)]}"
            tokens.append(f"x:{value}{chord}")
            length = float(VALUES[value[0]])
            elapsed += length * 1.5 if "." in value else length
        text.append(" ".join(tokens))
    return _expect(Line(text=" | ".join(text), name=instrument.title))


def strokes(seed: int, bars: int = 8, manner: str = "steps") -> Expectation:
    """A rhythm on one line, with rests."""
    rng = np.random.default_rng(seed)
    metre = int(rng.choice([4, 4, 3, 6]))
    table = RHYTHMS if manner == "steps" else MOTIF_RHYTHMS
    text = []
    for bar in range(bars):
        values = str(rng.choice(table[metre])).split()
        text.append(" ".join(f"{'r' if bar and i and rng.random() < 0.1 else 'x'}:{v}" for i, v in enumerate(values)))
    beats, beat_type = METRES[metre]
    return _expect(replace(Line(text=" | ".join(text), name="Percussion"), beats=beats, beat_type=beat_type))
