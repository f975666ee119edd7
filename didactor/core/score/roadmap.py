"""The road map: in which order the bars of a passage are played.

Without an order of the teacher's own, repeats that lie inside the passage are played, with their endings; each jump (D.C., D.S.)
is followed once, without repeats, when both the jump and its target lie inside. Bars are named by their printed number, or by
sections: those the order itself names (``A: 1-4 B: 5-8, A B A A``), else the score's rehearsal marks.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from didactor.core.errors import PassageError
from didactor.core.score.model import Bar, Part
from didactor.core.words import worded

#: A section that an order names: “A: 1-4”, “B=5”.
_SECTION = re.compile(r"(\w+)\s*[:=]\s*(\w+(?:\s*[-–]\s*\w+)?)")
#: Longest performed order: a guard against repeats of repeats.
MAX_PLAYED_BARS = 2000


def bars_in_words(bars: str) -> str:
    """``5-8`` to “bars 5–8”, ``6`` and ``6-6`` to “bar 6”; an order of several stays as it is."""
    first, _, last = bars.partition("-")
    return (
        worded("bar {first}", first=first)
        if last in ("", first) and " " not in bars
        else worded("bars {bars}", bars=bars.replace("-", "–"))
    )


def bars_between(part: Part, bars: str | None) -> list[Bar]:
    """Bars named by a range such as ``"5-12"``, ``"7"`` or ``"0-8"``; all bars for ``None``.

    Raises:
        PassageError: the range is not understood or names bars that the part does not have.
    """
    if bars is None or not bars.strip():
        return list(part.bars)
    match = re.fullmatch(r"\s*(\w+)\s*(?:[-–]\s*(\w+)\s*)?", bars)
    if match is None:
        raise PassageError("passage.bars", worded("“{bars}” is no range of bars. Write it like 5-12.", bars=bars.strip()))
    first = _position(part, match[1], last=False)
    last = _position(part, match[2] or match[1], last=True)
    if last < first:
        raise PassageError(
            "passage.bars", worded("Bar {match} comes before bar {match_2}. Write the range like 5-12.", match=match[2], match_2=match[1])
        )
    return list(part.bars[first : last + 1])


def _position(part: Part, number: str, *, last: bool) -> int:
    found = [bar.index for bar in part.bars if bar.number == number]
    if not found:
        raise PassageError(
            "passage.no_such_bar",
            worded(
                "There is no bar {number}: {name} has bars {number_2} to {number_3}.",
                number=number,
                name=part.name,
                number_2=part.bars[0].number,
                number_3=part.bars[-1].number,
            ),
        )
    return found[-1 if last else 0]


def played_order(part: Part, bars: Sequence[Bar], order: str | None = None) -> list[tuple[Bar, int]]:
    """Bars in performed order, each with its pass (1 the first time it is played).

    Args:
        order: ranges or sections in the order of playing, separated by spaces or commas (``"1-4 1-4 5-8"``, ``"A: 1-4 B: 5-8, A B A A"``),
            or None for the score's own.

    Raises:
        PassageError: the order names bars or sections that do not exist or lie outside the passage.
    """
    if order and order.strip():
        played = []
        inside = {bar.index for bar in bars}
        for chosen in _chosen(part, bars, order):
            outside = [bar.number for bar in chosen if bar.index not in inside]
            if outside:
                raise PassageError(
                    "passage.order", worded("The order of playing names bar {outside}, which is not in the passage.", outside=outside[0])
                )
            played.extend(chosen)
    else:
        played = _unfold(bars)
    if len(played) > MAX_PLAYED_BARS:
        raise PassageError(
            "passage.order", worded("The order of playing comes to more than {max_played_bars} bars.", max_played_bars=MAX_PLAYED_BARS)
        )
    counts: dict[int, int] = {}
    result = []
    for bar in played:
        counts[bar.index] = counts.get(bar.index, 0) + 1
        result.append((bar, counts[bar.index]))
    return result


def _chosen(part: Part, bars: Sequence[Bar], order: str) -> Iterator[list[Bar]]:
    """The stretches that an order names, one after the other."""
    defined = {name: bars_between(part, span) for name, span in _SECTION.findall(order)}
    named = defined or _by_rehearsal_marks(bars)
    wanted = [word for word in re.split(r"[\s,;]+", _SECTION.sub(" ", order).strip()) if word] or list(defined)
    numbers = {bar.number for bar in part.bars}
    for word in wanted:
        if word in named:
            yield named[word]
        elif word.isalpha() and word not in numbers:
            raise PassageError(
                "passage.order",
                worded(
                    "There is no section {word}; there are {named}. Say which bars it has, like {word}: 1-4.",
                    word=word,
                    named=", ".join(named),
                )
                if named
                else worded("There is no section {word}. Say which bars it has, like {word}: 1-4.", word=word),
            )
        else:
            yield bars_between(part, word)


def _by_rehearsal_marks(bars: Sequence[Bar]) -> dict[str, list[Bar]]:
    """Sections from one rehearsal mark to the next; what comes before the first has no name."""
    found: dict[str, list[Bar]] = {}
    current: list[Bar] | None = None
    for bar in bars:
        if bar.rehearsal:
            current = found.setdefault(bar.rehearsal, [])
            if current:  # the same letter again is the section written out again
                current = None
        if current is not None:
            current.append(bar)
    return found


def _unfold(bars: Sequence[Bar]) -> list[Bar]:
    """Repeats with endings, then jumps, each followed once and without repeats, to Fine or over the Coda.

    A section is played as often as its closing repeat says, or its endings have numbers. What follows a group of endings begins a new
    section, with or without a sign. While a jump is under way only the last ending of a group is played; it is over where it came from,
    or at the Coda.
    """
    played: list[Bar] = []
    groups = _ending_groups(bars)
    section_start, passes, position = 0, 1, 0
    # A closing repeat without an opening one inside the passage goes back to the passage's start only if that is where
    # the piece or the section begins; otherwise the repeated stretch is not wholly in the passage and is played once.
    opened = bool(bars) and (bars[0].index == 0 or bars[0].repeat_start)
    followed: set[int] = set()
    jumping_from: int | None = None
    while position < len(bars) and len(played) <= MAX_PLAYED_BARS:
        bar, group = bars[position], groups[position]
        behind = groups[position - 1] if position else None
        if (bar.repeat_start or (behind is not None and behind is not group)) and position != section_start:
            section_start, passes, opened = position, 1, True
        jumping = jumping_from is not None
        if group is not None and opened and (max(group.numbers) if jumping else passes) not in bar.endings:
            position += 1
            continue
        played.append(bar)
        if jumping and "fine" in bar.marks:
            break
        coda = next((i for i in range(position + 1, len(bars)) if "coda" in bars[i].marks), None)
        if jumping and "tocoda" in bar.marks and coda is not None:
            position, section_start, passes, jumping_from = coda, coda, 1, None
            continue
        if bar.repeat_end and opened and not jumping and passes < max(bar.repeat_times, *(group.numbers if group else (1,))):
            passes, position = passes + 1, section_start
            continue
        if bar.repeat_end and group is None:
            section_start, passes, opened = position + 1, 1, True
        target = _jump_target(bars, position) if bar.jump and position not in followed else None
        if target is not None:
            followed.add(position)
            jumping_from, position = position, target
            continue
        if position == jumping_from:
            jumping_from = None
        position += 1
    return played


@dataclass(slots=True, eq=False)
class _Group:
    """Endings of one section, side by side."""

    numbers: set[int] = field(default_factory=set)


def _ending_groups(bars: Sequence[Bar]) -> list[_Group | None]:
    """For each bar its group of endings, None outside endings. A number that comes again begins the next group."""
    result: list[_Group | None] = []
    for index, bar in enumerate(bars):
        before = bars[index - 1].endings if index else ()
        group = result[-1] if result else None
        if not bar.endings:
            group = None
        elif group is None or (bar.endings != before and group.numbers & set(bar.endings)):
            group = _Group()
        if group is not None:
            group.numbers.update(bar.endings)
        result.append(group)
    return result


def _jump_target(bars: Sequence[Bar], position: int) -> int | None:
    """Where a jump goes: the beginning of the piece, or the nearest segno before it; None where that is not in the passage."""
    if bars[position].jump == "dacapo":
        return 0 if bars[0].index == 0 else None
    return next((i for i in range(position, -1, -1) if "segno" in bars[i].marks), None)
