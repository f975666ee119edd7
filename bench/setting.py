"""Is what is proposed for setting the work right? Likeness of bars, and difficulty.

    bench/setting          near-copies planted in melodies by seeded generators; thirty passages ranked by hand (ranking.json)
    bench/setting --write  refreshes its part of docs/benchmarks.md

The last line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import json
import random
import sys
from collections import Counter
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

from report import close  # noqa: E402

from didactor.core.score.expected import expect  # noqa: E402
from didactor.core.score.generate.pitches import scale_ladder  # noqa: E402
from didactor.core.score.generate.sight_reading import sight_reading  # noqa: E402
from didactor.core.score.model import Part  # noqa: E402
from didactor.core.score.read.musicxml import prepare, read  # noqa: E402
from didactor.core.score.study.difficulty import difficulty  # noqa: E402
from didactor.core.score.study.likeness import Kind, likenesses  # noqa: E402
from didactor.core.score.write.as_musicxml import Line, write_musicxml  # noqa: E402

MELODIES, BARS = 150, 12


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    counts = {"planted": 0, "found": 0, "claimed": 0, "placed": 0}
    for seed in range(MELODIES):
        _one_melody(seed, counts)
    figures = {
        "likeness_melodies": MELODIES,
        "likeness_planted": counts["planted"],
        "likeness_recall_percent": round(100 * counts["found"] / counts["planted"], 2),
        "likeness_precision_percent": round(100 * counts["placed"] / max(1, counts["claimed"]), 2),
        "difficulty_rank_correlation": round(_rank_correlation(), 3),
    }
    return close("setting", "", figures, write=options.write)


def _part(text: str, fifths: int = 0, beats: int = 4, beat_type: int = 4) -> Part:
    line = Line(text=text, fifths=fifths, beats=beats, beat_type=beat_type)
    return read(prepare(write_musicxml([line]))).parts[0]


def _one_melody(seed: int, counts: dict[str, int]) -> None:
    """Copies of earlier bars are planted: the same, moved, or with one note changed; everything else is as the generator made it."""
    rng = random.Random(seed)
    names = scale_ladder("major", "C4", 2).up
    bars = sight_reading(names, 7, 4, 4, "intermediate", seed).split(" | ")
    planted: dict[int, tuple[int, Kind]] = {}
    while len(bars) < BARS:
        source = rng.randrange(len(bars) - 1)
        tokens = bars[source].split()
        sounding = [k for k, t in enumerate(tokens) if t[0] != "r" and "~" not in t]
        if len(sounding) < 5 or source in planted:
            bars.append(sight_reading(names, 2, 4, 4, "intermediate", seed + 1000 * len(bars)).split(" | ")[0])
            continue
        kind = rng.choice(list(Kind))
        if kind is Kind.TRANSPOSED:
            tokens = [_moved(t, 12) if t[0] != "r" else t for t in tokens]
        elif kind is Kind.ALMOST:
            at = rng.choice(sounding)
            tokens[at] = _moved(tokens[at], rng.choice((-2, -1, 1, 2, 3)))
        planted[len(bars)] = (source, kind)
        bars.append(" ".join(tokens))
    found = {like.bar: like for like in likenesses(_part(" | ".join(bars)))}
    contents = list(bars)
    counts["planted"] += len(planted)
    for bar, (source, kind) in planted.items():
        like = found.get(bar)
        counts["found"] += like is not None and like.kind is kind and (like.pattern == source or contents[like.pattern] == contents[source])
    for bar, like in found.items():
        counts["claimed"] += 1
        # Borne out by a look at the two bars as text, planted or not.
        counts["placed"] += _is_like(contents[bar], contents[like.pattern], like.kind)


def _moved(token: str, semitones: int) -> str:
    from didactor.core.units import midi_to_name, name_to_midi

    name, _, rest = token.partition(":")
    return f"{midi_to_name(name_to_midi(name) + semitones)}:{rest}"


def _is_like(one: str, other: str, kind: Kind) -> bool:
    """The same; the same values at one distance; or, at some distance, all but a note (a pair where a length changed) the same."""
    a, b = one.split(), other.split()
    if kind is Kind.SAME:
        return a == b
    best = min(_differing(a, [_moved(t, shift) if t[0] != "r" else t for t in b]) for shift in range(-24, 25))
    return best == 0 if kind is Kind.TRANSPOSED else 0 < best <= 2


def _differing(a: list[str], b: list[str]) -> int:
    """Tokens that are in one bar and not in the other, counted on the side that has more of them."""
    plain = [[_moved(t, 0) if t[0] != "r" else t for t in bar] for bar in (a, b)]
    common = sum((Counter(plain[0]) & Counter(plain[1])).values())
    return max(len(a), len(b)) - common


def _rank_correlation() -> float:
    """Spearman's rho between the ranking by hand and the formula."""
    passages = json.loads((HERE / "ranking.json").read_text())
    values = []
    for entry in passages:
        part = _part(entry["text"], entry["fifths"], entry.get("beats", 4), entry.get("beat_type", 4))
        values.append(difficulty(expect(part), entry["tempo"], part).value)
    order = sorted(range(len(values)), key=lambda k: values[k])
    rank = {k: r for r, k in enumerate(order)}
    count = len(values)
    return 1 - 6 * sum((rank[k] - k) ** 2 for k in range(count)) / (count * (count**2 - 1))


if __name__ == "__main__":
    sys.exit(main())
