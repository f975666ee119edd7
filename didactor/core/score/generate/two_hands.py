"""Lines for two hands to be read at sight: the hands in turn, then together over simple patterns, each hand in its place.

Beginners read one hand at a time, since two staves at once are the harder half of the work; then the left hand holds, then it goes in
halves, then it is broken up. A bar's harmony is the chord among I, IV and V that has most of the right hand's strong notes.
"""

from __future__ import annotations

import random
from collections.abc import Sequence
from fractions import Fraction

from didactor.core.score.generate.layout import bar_length, lay_out
from didactor.core.score.generate.rhythm_lines import bar_of_rhythm
from didactor.core.score.generate.sight_reading import sight_reading

#: Degrees of the chords that are used, from the tonic, and where their root lies under the left hand.
CHORDS = {0: (0, 2, 4), 3: (3, 5, 0), 4: (4, 6, 1)}
#: What the left hand does with a chord at each level: degrees above the hand's lowest note, and parts of a bar.
PATTERNS: dict[str, tuple[tuple[int, ...], ...]] = {
    "elementary": ((0,),),
    "intermediate": ((0, 4), (0, 2)),
    "advanced": ((0, 4, 2, 4), (0, 2, 4, 2)),
}

Bar = list[tuple[str, Fraction, str]]


def two_hands(upper: Sequence[str], lower: Sequence[str], bars: int, beats: int, beat_type: int, level: str, seed: int) -> tuple[str, str]:
    """The texts of both staves. ``upper`` and ``lower`` are ladders of at least eight names, their tonic first."""
    text = sight_reading(upper, bars, beats, beat_type, level, seed)
    rng = random.Random(f"hands {level} {beats}/{beat_type} {bars} {seed} {lower[0]}")
    if level == "beginner":
        return _in_turn(text, lower, beats, beat_type, rng)
    written = [bar.split() for bar in text.split("|")]
    found: list[str] = []
    for number, bar in enumerate(written):
        last = number == len(written) - 1
        root = 0 if last else _harmony(bar, upper)
        found.append(lay_out(_left(root, lower, beats, beat_type, "elementary" if last else level, rng), beats, beat_type))
    return text, " | ".join(found)


def _in_turn(text: str, lower: Sequence[str], beats: int, beat_type: int, rng: random.Random) -> tuple[str, str]:
    """Two bars of the right hand, two of the left, and the last one together."""
    length = bar_length(beats, beat_type)
    rest = lay_out([("r", length, "")], beats, beat_type)
    right, left, degree = [], [], 0
    written = [bar.strip() for bar in text.split("|")]
    for number, bar in enumerate(written):
        if number == len(written) - 1:
            right.append(bar)
            left.append(lay_out([(lower[0], length, "")], beats, beat_type))
        elif number // 2 % 2 == 0:
            right.append(bar)
            left.append(rest)
        else:
            played: Bar = []
            for sounds, value in bar_of_rhythm(beats, beat_type, "beginner", rng):
                played.append((lower[degree], value, "") if sounds else ("r", value, ""))
                degree = min(4, max(0, degree + rng.choice((-1, 1))))
            right.append(rest)
            left.append(lay_out(played, beats, beat_type))
    return " | ".join(right), " | ".join(left)


def _harmony(bar: Sequence[str], upper: Sequence[str]) -> int:
    """The chord with most of a bar's notes, the first one counting double; the tonic's where they are alike."""
    degrees = [upper.index(name) % 7 for token in bar if (name := token.partition(":")[0].strip("~")) in upper]
    weights = {root: sum((2 if k == 0 else 1) * (degree in tones) for k, degree in enumerate(degrees)) for root, tones in CHORDS.items()}
    return max(CHORDS, key=lambda root: (weights[root], -root))


def _left(root: int, lower: Sequence[str], beats: int, beat_type: int, level: str, rng: random.Random) -> Bar:
    """One bar of the left hand. The hand stays where it is: what would lie above its place is taken an octave lower within it."""
    length = bar_length(beats, beat_type)
    pattern = rng.choice(PATTERNS[level])
    tones = CHORDS[root]
    names = [lower[tones[offset // 2] % 7] for offset in pattern]
    compound = beat_type == 8 and beats % 3 == 0
    count = beats // 3 if compound else beats
    beat = length / count
    if len(names) == 1:
        return [(names[0], length, "")]
    if len(names) == 2 and count % 2 == 0:
        return [(name, length / 2, "") for name in names]
    # As many notes as the bar has beats, round and round in the pattern.
    return [(names[k % len(names)], beat, "") for k in range(count)]
