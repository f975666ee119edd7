"""What mends which kind of fault: one exercise at a time, with its reason, its own tempo and its own count."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from didactor.core.formats.plain import stored
from didactor.core.practising.kinds import TRY_SLOWER, TRY_TIMES, FaultKind, Reading
from didactor.core.score.expected import Expectation, ExpectedNote
from didactor.core.words import worded

#: A component is trained at this share of the tempo; so often without a fault, and one goes back.
COMPONENT_SHARE, COMPONENT_TIMES = 0.75, 2
#: The exercise that is to tell what kind of fault it is.
FINDS_OUT = "find_out"
#: A seam is played from so many beats before the bar line to so many after it; an entry is begun so many beats before.
AROUND_BEATS, LEAD_BEATS = 2.0, 2.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Exercise:
    """What to play: bars and order of playing, of these only what lies between two places (quarters from the start of the bars), one staff
    alone, with the ear of ``step``; at ``tempo`` beats a minute, ``times`` without a fault.

    ``means`` is a slug that says what is done, so that another one is proposed the next time; ``silent``: nothing is heard of it, the
    student ticks it off.
    """

    means: str
    title: str = stored(words=True)
    says: str = stored(words=True)
    bars: str
    tempo: float
    times: int
    order: str | None = None
    from_quarters: float | None = None
    to_quarters: float | None = None
    staff: int | None = None
    step: str = "play"
    silent: bool = False


def remedy_for(
    reading: Reading,
    expectation: Expectation,
    *,
    bars: str,
    tempo: float,
    rungs: Sequence[float],
    done: Sequence[str] = (),
) -> Exercise:
    """One exercise for a kind of fault.

    Args:
        expectation: of the stone, whose bars are ``bars``.
        tempo: the one at which it fails, beats a minute.
        rungs: tempi that can be chosen, ascending.
        done: means that were tried before for this stone, so that it is not the same one for ever.
    """
    index = next((k for k, n in enumerate(expectation.notes) if n.id == reading.at), None)
    if reading.kind is None or index is None:
        slow = _rung(rungs, TRY_SLOWER * tempo)
        says = (
            worded("It goes wrong again and again in bar {bar}. Three slow ones will tell why.", bar=reading.bar)
            if reading.bar
            else worded("It goes wrong again and again in one place. Three slow ones will tell why.")
        )
        return Exercise(means=FINDS_OUT, title=worded("Slower, three times"), says=says, bars=bars, tempo=slow, times=TRY_TIMES)
    if reading.kind is FaultKind.FAST:
        return _slower(reading, bars, tempo, rungs)
    if reading.kind is FaultKind.JOIN:
        return _around_the_seam(expectation, expectation.notes[index], bars, _rung(rungs, COMPONENT_SHARE * tempo))
    if reading.kind is FaultKind.AFTER_REST:
        return _entry(expectation, expectation.notes[index], bars, tempo)
    if reading.kind is FaultKind.CARRIED_OVER:
        return _in_turn(reading, tempo, rungs)
    return _component(expectation, index, bars, _rung(rungs, COMPONENT_SHARE * tempo), done)


def _rung(rungs: Sequence[float], wanted: float) -> float:
    """The fastest of the tempi that is not above the wanted one, the slowest if all are."""
    return max((r for r in rungs if r <= wanted + 0.5), default=rungs[0])


def _slower(reading: Reading, bars: str, tempo: float, rungs: Sequence[float]) -> Exercise:
    clean = reading.clean_at if reading.clean_at is not None else TRY_SLOWER * tempo
    slow = _rung(rungs, min(clean, 0.95 * tempo))
    says = (
        worded(
            "Bar {bar} is right when it is slow and wrong when it is fast. This is the fastest tempo at which it was clean.",
            bar=reading.bar,
        )
        if reading.bar
        else worded("One place is right when it is slow and wrong when it is fast. This is the fastest tempo at which it was clean.")
    )
    return Exercise(
        means="slower", title=worded("At {slow:g}, then up again", slow=slow), says=says, bars=bars, tempo=slow, times=COMPONENT_TIMES
    )


def _around_the_seam(expectation: Expectation, note: ExpectedNote, bars: str, tempo: float) -> Exercise:
    """From two beats before the bar line to two after it."""
    bar = expectation.bar_at(note.onset_quarters)
    starts = [b.start_quarters for b in expectation.bars if b.start_quarters > 1e-6]
    seam = min(starts, key=lambda q: abs(q - note.onset_quarters), default=bar.start_quarters)
    around = AROUND_BEATS * bar.beat_quarters
    says = worded("Each side is right by itself; it goes wrong where they meet. So only the notes around the bar line.")
    first, last = max(0.0, seam - around), min(expectation.length_quarters, seam + around)
    return Exercise(
        means="seam",
        title=worded("Around the bar line"),
        says=says,
        bars=bars,
        tempo=tempo,
        times=COMPONENT_TIMES,
        from_quarters=first,
        to_quarters=last,
    )


def _entry(expectation: Expectation, note: ExpectedNote, bars: str, tempo: float) -> Exercise:
    bar = expectation.bar_at(note.onset_quarters)
    first = max(0.0, note.onset_quarters - LEAD_BEATS * bar.beat_quarters)
    last = min(expectation.length_quarters, max(note.onset_quarters + 2 * bar.beat_quarters, bar.start_quarters + bar.length_quarters))
    says = worded("It is the note after the rest in bar {bar}. Count the rest aloud, and enter from two beats before.", bar=note.bar)
    return Exercise(
        means="entry",
        title=worded("Count the rest, and enter"),
        says=says,
        bars=bars,
        tempo=tempo,
        times=COMPONENT_TIMES,
        from_quarters=first,
        to_quarters=last,
    )


def _in_turn(reading: Reading, tempo: float, rungs: Sequence[float]) -> Exercise:
    says = worded(
        "Bar {like} is played where bar {bar} is written: they begin alike. Both in turn, and hear where they part.",
        like=reading.like,
        bar=reading.bar,
    )
    pair = f"{reading.like} {reading.bar} {reading.like} {reading.bar}"
    slow = _rung(rungs, COMPONENT_SHARE * tempo)
    # Its bars stand in the order: that of the stone need not hold the like bar.
    return Exercise(
        means="in_turn",
        title=worded("Bars {like} and {bar} in turn", like=reading.like, bar=reading.bar),
        says=says,
        bars="",
        tempo=slow,
        times=COMPONENT_TIMES,
        order=pair,
    )


def _component(expectation: Expectation, index: int, bars: str, tempo: float, done: Sequence[str]) -> Exercise:
    """One hand, the two notes, the rhythm, the fingers without a sound: the first that was not tried, and round again."""
    note = expectation.notes[index]
    says = worded("Bar {bar} is wrong at every tempo, so slower alone does not mend it.", bar=note.bar)
    found: list[Exercise] = []
    plain = Exercise(means="", title="", says=says, bars=bars, tempo=tempo, times=COMPONENT_TIMES)
    if len({n.staff for n in expectation.notes}) > 1:
        found.append(
            replace(
                plain,
                means="hand",
                title=worded("The right hand alone") if note.staff == 1 else worded("The left hand alone"),
                says=worded("{says} One hand by itself first.", says=says),
                staff=note.staff,
            )
        )
    before = [n for n in expectation.notes if n.onset_quarters < note.onset_quarters and n.staff == note.staff and not n.grace]
    after = [n for n in expectation.notes if n.onset_quarters > note.onset_quarters and n.staff == note.staff and not n.grace]
    first = before[-1] if before else note
    last = note if before or not after else after[0]
    words = worded("{says} The two notes of the move by themselves, until the hand knows the way.", says=says)
    end = last.onset_quarters + last.duration_quarters
    found.append(
        replace(plain, means="two_notes", title=worded("Two notes"), says=words, from_quarters=first.onset_quarters, to_quarters=end)
    )
    if len({round(n.duration_quarters, 4) for n in expectation.notes}) > 1 and not note.unpitched:
        found.append(
            replace(
                plain,
                means="clap",
                title=worded("The rhythm clapped"),
                says=worded("{says} Its rhythm without the notes.", says=says),
                step="clap",
                staff=None,
            )
        )
    words = worded("{says} The fingers without a sound, twice, looking where each one goes.", says=says)
    found.append(replace(plain, means="silent", title=worded("Fingers without a sound"), says=words, silent=True))
    tried = [done.count(exercise.means) for exercise in found]
    return found[tried.index(min(tried))]


def music_of(exercise: Exercise, expectation: Expectation) -> Expectation:
    """What an exercise is heard against: of the expectation of its bars and order, the part between its places."""
    if exercise.from_quarters is None or exercise.to_quarters is None:
        return expectation
    first, last = exercise.from_quarters, exercise.to_quarters
    notes = [n for n in expectation.notes if first - 1e-6 <= n.onset_quarters < last - 1e-6]
    # It is counted off to the bar line, or to the beat at which it begins: bars are cut to what is left of them.
    bars = []
    for bar in expectation.bars:
        begin, end = max(first, bar.start_quarters), min(last, bar.start_quarters + bar.length_quarters)
        if end > begin + 1e-6:
            bars.append(replace(bar, start_quarters=begin - first, length_quarters=end - begin))
    moved = tuple(
        replace(n, onset_quarters=n.onset_quarters - first, duration_quarters=min(n.duration_quarters, last - n.onset_quarters))
        for n in notes
    )
    return replace(expectation, notes=moved, bars=tuple(bars), hairpins=(), chords=())
