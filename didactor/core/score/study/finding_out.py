"""What a student finds out before being told: questions to a passage, and an honest answer to each.

Good teachers do not point first; the student looks, and is then shown what was overlooked. Where a question has no single right answer
(which bar is the hardest, at which tempo to begin) what is reasonable counts as found.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from didactor.core.score.model import Bar, Note
from didactor.core.score.study.counting import Counted, counting
from didactor.core.score.study.difficulty import Difficulty
from didactor.core.score.study.reading_aids import read_key_signature
from didactor.core.words import counted, listed, worded

#: A bar nearly as hard as the hardest is as good an answer; a tempo so little above the easy one is still at ease.
NEARLY, AT_EASE = 0.85, 1.1
#: A count is asked for a bar with so many notes.
FEWEST_COUNTED, MOST_COUNTED = 2, 12


@dataclass(frozen=True, slots=True, kw_only=True)
class Questions:
    """What can be asked of a passage. ``pitched``: notes that can be touched; ``counted``: what is said in ``counted_bar``, in order."""

    signs: tuple[str, ...]
    key: frozenset[str]
    pitched: tuple[str, ...]
    bars: tuple[str, ...]
    counted_bar: str
    counted: tuple[Counted, ...]

    @property
    def asks_key(self) -> bool:
        """With no sign in the signature there is nothing to look for."""
        return bool(self.signs and self.pitched)

    @property
    def asks_hardest(self) -> bool:
        return len(self.bars) > 2

    @property
    def asks_counts(self) -> bool:
        return bool(self.counted_bar)


@dataclass(frozen=True, slots=True, kw_only=True)
class Answers:
    """What the student said: notes touched, a bar, the word said on each note of the counted bar, a tempo; None: not answered."""

    key: frozenset[str] | None = None
    hardest: str | None = None
    counts: Mapping[str, str] = field(default_factory=dict)
    tempo_bpm: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Answered:
    """One question answered: ``right`` is None where nothing was said. ``overlooked`` and ``mistaken`` are note ids."""

    about: str
    right: bool | None
    words: str
    overlooked: tuple[str, ...] = ()
    mistaken: tuple[str, ...] = ()


def questions(notes: Sequence[Note], bars: Mapping[int, Bar], words: Mapping[str, str] | None = None) -> Questions:
    """What to ask of the notes of some bars; ``words``: a studio's own words for counting."""
    reading = read_key_signature(list(notes), dict(bars))
    counted = counting(notes, bars, words)
    begun = [n for n in notes if not n.unpitched and not n.grace and not n.tie_stop]
    chosen = _most_to_count(notes, bars)
    return Questions(
        signs=reading.signs,
        key=frozenset(reading.touched) & {n.id for n in begun},
        pitched=tuple(n.id for n in begun),
        bars=tuple(dict.fromkeys(bar.number for bar in bars.values())),
        counted_bar=bars[chosen].number if chosen is not None else "",
        counted=tuple(c for c in counted.counts if chosen is not None and c.bar_id == bars[chosen].id),
    )


def _most_to_count(notes: Sequence[Note], bars: Mapping[int, Bar]) -> int | None:
    """The bar with the most kinds of distances between its notes: there counting is worth asking."""
    best: tuple[int, int] | None = None
    chosen = None
    for index, bar in bars.items():
        onsets = sorted({round(n.onset_quarters, 3) for n in notes if n.bar_index == index and not n.grace and not n.tie_stop})
        if not FEWEST_COUNTED <= len(onsets) <= MOST_COUNTED:
            continue
        gaps = {round(b - a, 3) for a, b in zip(onsets, [*onsets[1:], bar.length_quarters], strict=True)}
        worth = (len(gaps), -abs(len(onsets) - 5))
        if best is None or worth > best:
            best, chosen = worth, index
    return chosen


def answer(asked: Questions, said: Answers, found: Difficulty, start_bpm: float) -> tuple[Answered, ...]:
    """Each question that could be asked, with what was said held against the score.

    Args:
        found: how hard each bar is, with the teacher's own word on it.
        start_bpm: the tempo at which the hardest bar is at ease.
    """
    told = []
    if asked.asks_key:
        told.append(_of_key(asked, said))
    if asked.asks_hardest:
        told.append(_of_hardest(said, found))
    if asked.asks_counts:
        told.append(_of_counts(asked, said))
    told.append(_of_tempo(said, found, start_bpm))
    return tuple(told)


def _of_key(asked: Questions, said: Answers) -> Answered:
    facts = counted("{signs}: {count} note here", "{signs}: {count} notes here", len(asked.key), signs=", ".join(asked.signs))
    if said.key is None:
        return Answered(about="key", right=None, words=f"{facts}.", overlooked=tuple(sorted(asked.key)))
    overlooked, mistaken = sorted(asked.key - said.key), sorted(said.key - asked.key)
    if not overlooked and not mistaken:
        return Answered(about="key", right=True, words=worded("{facts}; all found.", facts=facts))
    words = [worded("{overlooked} overlooked", overlooked=len(overlooked))] if overlooked else []
    words += [worded("{mistaken} that the key does not change", mistaken=len(mistaken))] if mistaken else []
    return Answered(about="key", right=False, words=f"{facts}; {', '.join(words)}.", overlooked=tuple(overlooked), mistaken=tuple(mistaken))


def _of_hardest(said: Answers, found: Difficulty) -> Answered:
    hardest = found.hardest
    why = listed(hardest.why)
    facts = worded("bar {number}: {why}", number=hardest.number, why=why) if why else worded("bar {number}", number=hardest.number)
    if said.hardest is None:
        return Answered(about="hardest", right=None, words=worded("By our reckoning {facts}.", facts=facts))
    value = max((b.value for b in found.bars if b.number == said.hardest), default=0.0)
    if said.hardest == hardest.number:
        return Answered(
            about="hardest",
            right=True,
            words=worded("Bar {number}, as we see it: {why}.", number=hardest.number, why=why)
            if why
            else worded("Bar {number}, as we see it.", number=hardest.number),
        )
    if value >= NEARLY * hardest.value:
        return Answered(
            about="hardest", right=True, words=worded("Bar {hardest} is about as hard as {facts}.", hardest=said.hardest, facts=facts)
        )
    return Answered(
        about="hardest", right=False, words=worded("You chose bar {hardest}; look at {facts}.", hardest=said.hardest, facts=facts)
    )


def _of_counts(asked: Questions, said: Answers) -> Answered:
    due = {c.note_id: c.word for c in asked.counted if c.note_id is not None}
    line = " ".join(c.word if c.note_id is not None else f"({c.word})" for c in asked.counted)
    facts = worded("Bar {counted_bar} is counted {line}", counted_bar=asked.counted_bar, line=line)
    if not any(said.counts.values()):
        return Answered(about="counts", right=None, words=f"{facts}.")
    wrong = tuple(note for note, word in due.items() if said.counts.get(note, "") != word)
    if not wrong:
        return Answered(about="counts", right=True, words=worded("{facts}: every note is in its place.", facts=facts))
    return Answered(
        about="counts",
        right=False,
        words=worded("{facts}; {wrong} of {due} notes fall elsewhere.", facts=facts, wrong=len(wrong), due=len(due)),
        mistaken=wrong,
    )


def _of_tempo(said: Answers, found: Difficulty, start_bpm: float) -> Answered:
    where = worded("bar {number} is at ease from about {start_bpm:.0f} down", number=found.hardest.number, start_bpm=start_bpm)
    if said.tempo_bpm is None:
        return Answered(about="tempo", right=None, words=f"{where[0].upper()}{where[1:]}.")
    if said.tempo_bpm <= AT_EASE * start_bpm:
        return Answered(
            about="tempo", right=True, words=worded("{tempo_bpm:g} leaves room to think: {where}.", tempo_bpm=said.tempo_bpm, where=where)
        )
    return Answered(
        about="tempo", right=False, words=worded("{tempo_bpm:g} is brisk to begin with: {where}.", tempo_bpm=said.tempo_bpm, where=where)
    )
