"""How hard a passage is, bar by bar, and why; the tempo to begin at and the steps to the target.

A sum of what makes reading and playing hard at a tempo, each part on a scale where 1 is “noticeably harder”: notes a second
(doubling the speed adds as much everywhere: Weber and Fechner), rhythm (values mixed, beats divided unlike, syncopes, rests on the
beat), leaps, signs against the key, the key's own signs, the range, what sounds together, and where the hand moves or the line goes
from hand to hand. A teacher who knows better says so bar by bar (``corrected``). The weights were set by judgement and
not fitted; ``bench/setting`` holds the result against a ranking made by hand before this was written.
"""

from __future__ import annotations

import itertools
import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from statistics import median

from didactor.core.instruments import find_instrument
from didactor.core.score.expected import Expectation, ExpectedNote, PlayedBar
from didactor.core.score.model import Part
from didactor.core.score.spelling import key_alters
from didactor.core.score.study.hand_moves import hand_changes, hand_moves
from didactor.core.words import _

WEIGHTS = {
    "speed": 1.6,
    "rhythm": 1.0,
    "leaps": 0.8,
    "signs": 1.1,
    "key": 0.35,
    "range": 0.5,
    "together": 0.9,
    "moves": 0.5,
    "hands": 0.3,
    "changes": 0.5,
}
WORDS = {
    "speed": _("many notes a second"),
    "rhythm": _("an unusual rhythm"),
    "leaps": "leaps",
    "signs": "signs against the key",
    "key": _("a key with many signs"),
    "range": _("a wide range"),
    "together": _("many notes together"),
    "moves": _("the hand moves"),
    "hands": _("the line goes from hand to hand"),
    "changes": _("quick changes of chord"),
}
#: So much beyond the usual is worth a word.
NOTICED = 0.25
#: What one step of a teacher's correction adds or takes: as much as one thing that is noticeably harder.
CORRECTION_STEP = 1.0
MARKED = "marked by the teacher"
#: So many steps mean: the hardest of all.
HARDEST = 3
#: Notes a second that a player of a level can read and play at ease.
AT_EASE = {"beginner": 1.6, "elementary": 2.6, "intermediate": 4.2, "advanced": 6.5}
#: No passage is begun below this share of its target; steps of the ladder are about so large.
SLOWEST_SHARE, STEP_PERCENT, MOST_STEPS = 0.4, 9.0, 9


@dataclass(frozen=True, slots=True, kw_only=True)
class BarDifficulty:
    """One bar, in written order. ``parts`` sum to ``value``, ``usual`` are those of the passage's middle bar; ``why`` says in words
    what there is most of beyond the usual (nothing where a bar is like the others).
    """

    number: str
    value: float
    parts: dict[str, float]
    notes_per_second: float
    usual: Mapping[str, float] = field(default_factory=dict)
    says_teacher: str = ""

    @property
    def why(self) -> tuple[str, ...]:
        if self.says_teacher:
            return (self.says_teacher,)
        beyond = {name: part - self.usual.get(name, 0.0) for name, part in self.parts.items()}
        ranked = sorted(beyond, key=lambda name: -beyond[name])
        return tuple(WORDS[name] for name in ranked[:2] if beyond[name] >= NOTICED)


@dataclass(frozen=True, slots=True, kw_only=True)
class Correction:
    """What a teacher says of a bar: so many steps harder (below 0: easier) than it was reckoned, or the ``HARDEST``; and why."""

    steps: int
    why: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Difficulty:
    """The whole passage: mostly its hardest bar (a chain is as strong as its weakest link)."""

    value: float
    bars: tuple[BarDifficulty, ...]

    @property
    def hardest(self) -> BarDifficulty:
        return max(self.bars, key=lambda b: b.value)

    def corrected(self, corrections: Mapping[str, Correction]) -> Difficulty:
        """The same with a teacher's word on some bars (by printed number), which counts more than the reckoning."""
        highest = max((bar.value for bar in self.bars), default=0.0)
        bars = []
        for bar in self.bars:
            said = corrections.get(bar.number)
            if said is not None:
                value = highest if said.steps >= HARDEST else bar.value
                bar = replace(
                    bar, value=max(0.0, value + CORRECTION_STEP * said.steps), says_teacher=said.why or (MARKED if said.steps > 0 else "")
                )
            bars.append(bar)
        return Difficulty(value=_of_all(bars), bars=tuple(bars))


def difficulty(expectation: Expectation, tempo_qpm: float, part: Part) -> Difficulty:
    """Difficulty of a passage of ``part`` at a tempo, for who reads and plays that part."""
    fifths = {bar.number: bar.fifths for bar in part.bars}
    bar_of = {n.id: part.bars[n.bar_index].number for n in part.notes}
    moves = Counter(bar_of[note] for note in hand_moves(part.notes, find_instrument(part.instrument)))
    hands = Counter(bar_of[note] for note in hand_changes(part.notes))
    changes = _changes(expectation)
    bars = []
    seen: set[str] = set()
    for bar in expectation.bars:
        if bar.number in seen:
            continue
        seen.add(bar.number)
        own = [n for n in expectation.notes if n.bar == bar.number and n.pass_ == bar.pass_ and not n.grace]
        counted = {"moves": moves[bar.number], "hands": hands[bar.number], "changes": changes[bar.start_quarters] * tempo_qpm / 60.0}
        bars.append(_of_bar(bar, own, tempo_qpm, fifths.get(bar.number, 0), counted))
    with_notes = [bar.parts for bar in bars if bar.value > 0]
    usual = {name: median(parts[name] for parts in with_notes) for name in WEIGHTS} if with_notes else {}
    return Difficulty(value=_of_all(bars), bars=tuple(replace(bar, usual=usual) for bar in bars))


def _changes(expectation: Expectation) -> dict[float, float]:
    """By the beginning of each bar, how quickly strummed chords change in it: one over the quarters that each new one lasts, summed."""
    found = {bar.start_quarters: 0.0 for bar in expectation.bars}
    if not any(n.unpitched for n in expectation.notes):
        return found  # names over notes are not played
    begins = [chord.onset_quarters for chord in expectation.chords]
    ends = [*begins[1:], expectation.length_quarters]
    before = ""
    for chord, begin, end in zip(expectation.chords, begins, ends, strict=False):  # without chords there is one end and no beginning
        if chord.text != before and before:
            found[expectation.bar_at(begin).start_quarters] += 1.0 / max(end - begin, 0.5)
        before = chord.text
    return found


def _of_all(bars: Sequence[BarDifficulty]) -> float:
    values = [b.value for b in bars] or [0.0]
    return 0.7 * max(values) + 0.3 * sum(values) / len(values)


def _of_bar(bar: PlayedBar, notes: Sequence[ExpectedNote], tempo_qpm: float, fifths: int, counted: Mapping[str, float]) -> BarDifficulty:
    onsets = sorted({round(n.beat, 4) for n in notes})
    seconds = bar.length_quarters * 60.0 / tempo_qpm
    per_second = _densest(onsets, bar, tempo_qpm) if onsets else 0.0
    line = _upper_line(notes)
    pitches = [n.sounding_midi for n in line if not n.unpitched]
    jumps = [abs(b - a) for a, b in itertools.pairwise(pitches)]
    raw = {
        "speed": math.log2(1 + per_second),
        "rhythm": rhythm_of_bar(notes, bar),
        "leaps": sum(max(0, j - 2) / 5 for j in jumps) / max(1, len(jumps)) + 0.15 * sum(j > 7 for j in jumps),
        "signs": 2.5 * sum(_against_the_key(n, fifths) for n in notes) / max(1, len(notes)),
        "key": max(0, abs(fifths) - 1) / 2,
        "range": max(0, (max(pitches) - min(pitches)) - 7) / 12 if pitches else 0.0,
        "together": len(notes) / max(1, len(onsets)) - 1,
        **{name: min(value, 4) for name, value in counted.items()},
    }
    parts = {name: round(WEIGHTS[name] * value, 3) for name, value in raw.items()}
    return BarDifficulty(
        number=bar.number,
        value=round(sum(parts.values()), 3) if notes else 0.0,
        parts=parts,
        notes_per_second=round(max(per_second, len(onsets) / seconds if seconds else 0.0), 2),
    )


def _densest(onsets: Sequence[float], bar: PlayedBar, tempo_qpm: float) -> float:
    """Onsets a second in the bar's fullest beat and in the whole of it, averaged: a burst counts, but not for all."""
    beats: dict[int, int] = {}
    for onset in onsets:
        beats[int(onset / bar.beat_quarters + 1e-6)] = beats.get(int(onset / bar.beat_quarters + 1e-6), 0) + 1
    fullest = max(beats.values()) / (bar.beat_quarters * 60.0 / tempo_qpm)
    return (fullest + len(onsets) / (bar.length_quarters * 60.0 / tempo_qpm)) / 2


def _upper_line(notes: Sequence[ExpectedNote]) -> list[ExpectedNote]:
    top: dict[float, ExpectedNote] = {}
    for note in notes:
        if note.onset_quarters not in top or note.sounding_midi > top[note.onset_quarters].sounding_midi:
            top[note.onset_quarters] = note
    return [top[at] for at in sorted(top)]


def rhythm_of_bar(notes: Sequence[ExpectedNote], bar: PlayedBar) -> float:
    """How hard a bar is to count: values mixed, beats divided by two and by three, syncopes, and beats on which nothing begins though
    the next half does. 0 for even notes.
    """
    if not notes:
        return 0.0
    values = {round(n.duration_quarters, 3) for n in notes}
    places = {round(n.beat % bar.beat_quarters / bar.beat_quarters, 3) for n in notes}
    thirds, halves = any(p in (0.333, 0.667) for p in places), any(p in (0.5, 0.25, 0.75) for p in places)
    syncopes = sum(
        1
        for n in notes
        if n.beat % bar.beat_quarters > 1e-3 and n.beat % bar.beat_quarters + n.duration_quarters > bar.beat_quarters + 1e-3
    )
    onsets = {round(n.beat, 3) for n in notes}
    count = round(bar.length_quarters / bar.beat_quarters)
    covered = {k for k in range(count) for n in notes if n.beat <= k * bar.beat_quarters + 1e-3 < n.beat + n.duration_quarters}
    silent = sum(
        1 for k in range(count) if k not in covered and any(0 < o - k * bar.beat_quarters < bar.beat_quarters - 1e-3 for o in onsets)
    )
    dotted = sum(1 for p in places if p in (0.75, 0.25)) > 0 and len(values) > 1
    return 0.25 * (len(values) - 1) + 0.8 * (thirds and halves) + 0.35 * min(syncopes, 4) + 0.4 * min(silent, 3) + 0.3 * dotted


def _against_the_key(note: ExpectedNote, fifths: int) -> bool:
    if note.unpitched:
        return False
    sign = {"bb": -2, "b": -1, "": 0, "#": 1, "##": 2}[note.written_pitch[1:].rstrip("0123456789-")]
    return sign != key_alters(fifths)[note.written_pitch[0]]


def starting_tempo(found: Difficulty, target_qpm: float, level: str) -> float:
    """Quarters a minute at which the hardest bar is at ease for a level, never above the target."""
    hardest = found.hardest
    if hardest.notes_per_second <= 0:
        return target_qpm
    beyond_speed = hardest.value - hardest.parts["speed"]
    ease = AT_EASE.get(level, AT_EASE["elementary"]) / (1 + 0.1 * max(0.0, beyond_speed - 1))
    return max(SLOWEST_SHARE * target_qpm, min(target_qpm, target_qpm * ease / hardest.notes_per_second))


def ladder(start_bpm: float, target_bpm: float) -> list[int]:
    """Metronome steps from a start to the target, about ``STEP_PERCENT`` apart, whole numbers, the target last."""
    if start_bpm >= 0.95 * target_bpm:
        return [round(target_bpm)]
    count = min(MOST_STEPS - 1, max(1, round(math.log(target_bpm / start_bpm) / math.log(1 + STEP_PERCENT / 100))))
    ratio = (target_bpm / start_bpm) ** (1 / count)
    steps = [round(start_bpm * ratio**k / 2) * 2 for k in range(count)] + [round(target_bpm)]
    return list(dict.fromkeys(steps))
