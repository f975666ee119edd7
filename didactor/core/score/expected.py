"""What is expected to sound: the notes of a passage in performed order, ties joined, unisons made one.

Time here is performed score time: ``onset_quarters`` counts from the start of the first bar played, ``beat`` from the start
of the note's own bar (in quarters, from 0, as in the results).
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any

from didactor.core.errors import PassageError
from didactor.core.score.model import Bar, Hairpin, Note, Part
from didactor.core.score.roadmap import bars_between, played_order
from didactor.core.words import worded

MAX_BARS_WITHOUT_NOTATION = 1000


@dataclass(frozen=True, slots=True, kw_only=True)
class ExpectedNote:
    """One sound that should be heard. ``bar`` is the printed number; ``pass_`` is 1 the first time the bar is played."""

    id: str
    bar: str
    pass_: int
    beat: float
    onset_quarters: float
    duration_quarters: float
    sounding_midi: int
    written_pitch: str
    part: int
    staff: int
    voice: str
    grace: bool = False
    articulations: tuple[str, ...] = ()
    slurred_to_next: bool = False
    dynamics: str | None = None
    alternatives: tuple[int, ...] = ()
    optional: bool = False
    unpitched: bool = False

    @property
    def pitches(self) -> tuple[int, ...]:
        """All sounding MIDI numbers that are right."""
        return (self.sounding_midi, *self.alternatives)


@dataclass(frozen=True, slots=True, kw_only=True)
class PlayedBar:
    """One bar in performed order and where it starts, in quarters from the start of the passage; ``fifths`` is its written key."""

    number: str
    pass_: int
    start_quarters: float
    length_quarters: float
    beat_quarters: float
    fifths: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class ExpectedChord:
    """A chord symbol in force from here (quarters from the start of the passage); pitch classes with the root first."""

    onset_quarters: float
    text: str
    pitch_classes: tuple[int, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ExpectedHairpin:
    """A growing or fading stretch, in quarters from the start of the passage."""

    growing: bool
    begin_quarters: float
    end_quarters: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Expectation:
    """The passage as it should sound. ``notes`` and ``bars`` are in performed order."""

    part: int
    instrument: str
    transposition: int
    notes: tuple[ExpectedNote, ...]
    bars: tuple[PlayedBar, ...]
    chords: tuple[ExpectedChord, ...] = ()
    hairpins: tuple[ExpectedHairpin, ...] = ()

    @property
    def length_quarters(self) -> float:
        return self.bars[-1].start_quarters + self.bars[-1].length_quarters if self.bars else 0.0

    @property
    def pickup_quarters(self) -> float:
        """Length of an anacrusis that begins the passage; 0 without one."""
        return self.bars[0].length_quarters if self.bars and self.bars[0].number == "0" else 0.0

    def bar_at(self, quarters: float) -> PlayedBar:
        """The bar in which a performed score position lies (the nearest one outside the passage)."""
        found = self.bars[0]
        for bar in self.bars:
            if bar.start_quarters <= quarters + 1e-6:
                found = bar
        return found


def expect(part: Part, bars: str | None = None, order: str | None = None) -> Expectation:
    """Expected notes of a passage.

    Args:
        part: the part as read.
        bars: range by printed numbers, or None for the whole part.
        order: order of playing (see ``roadmap.played_order``), or None.

    Raises:
        PassageError: unknown bars, or nothing to play in them.
    """
    played = played_order(part, bars_between(part, bars), order)
    by_bar: dict[int, list[Note]] = {}
    for note in part.notes:
        by_bar.setdefault(note.bar_index, []).append(note)
    notes: list[ExpectedNote] = []
    layout: list[PlayedBar] = []
    chords: list[ExpectedChord] = []
    hairpins: list[ExpectedHairpin] = []
    open_ties: dict[tuple[int, str, int], int] = {}
    slurred: set[str] = set()
    starts: dict[int, float] = {}
    start = 0.0
    for position, (bar, pass_) in enumerate(played):
        layout.append(
            PlayedBar(
                number=bar.number,
                pass_=pass_,
                start_quarters=start,
                length_quarters=bar.length_quarters,
                beat_quarters=bar.beat_quarters,
                fifths=bar.fifths,
            )
        )
        contiguous = position > 0 and played[position - 1][0].index == bar.index - 1
        if not contiguous:
            open_ties.clear()
        for note in by_bar.get(bar.index, ()):
            _add(notes, note, bar, pass_, start, part.index, open_ties, slurred)
        chords += [
            ExpectedChord(onset_quarters=start + c.onset_quarters, text=c.text, pitch_classes=c.pitch_classes)
            for c in part.chords
            if c.bar_index == bar.index
        ]
        starts[bar.index] = start
        hairpins += [_hairpin(h, starts) for h in part.hairpins if h.end[0] == bar.index and h.begin[0] in starts]
        start += bar.length_quarters
    if not notes:
        raise PassageError("passage.no_notes", worded("There is not a single note in these bars. Choose other bars."))
    notes = _merge_unisons(sorted(notes, key=lambda n: (n.onset_quarters, not n.grace, n.staff, n.sounding_midi)))
    return Expectation(
        part=part.index,
        instrument=part.instrument,
        transposition=part.transposition,
        notes=tuple(notes),
        bars=tuple(layout),
        chords=tuple(chords),
        hairpins=tuple(hairpins),
    )


def _hairpin(hairpin: Hairpin, starts: dict[int, float]) -> ExpectedHairpin:
    """A hairpin in performed time: its beginning is where its bar was last played."""
    begin, end = (starts[bar] + quarters for bar, quarters in (hairpin.begin, hairpin.end))
    return ExpectedHairpin(growing=hairpin.growing, begin_quarters=begin, end_quarters=end)


def _add(
    notes: list[ExpectedNote],
    note: Note,
    bar: Bar,
    pass_: int,
    start: float,
    part: int,
    open_ties: dict[tuple[int, str, int], int],
    slurred: set[str],
) -> None:
    key = (note.staff, note.voice, note.sounding_midi)
    if note.slur_start:
        slurred.add(note.voice)
    if note.slur_stop:
        slurred.discard(note.voice)
    # Some programs write only where a tie begins: the next note of that pitch, right after it, is its end.
    if key in open_ties and (note.tie_stop or abs(_end(notes[open_ties[key]]) - start - note.onset_quarters) < 1e-6):
        index = open_ties[key]
        first = notes[index]
        end = start + note.onset_quarters + note.duration_quarters
        notes[index] = replace(first, duration_quarters=end - first.onset_quarters, slurred_to_next=note.voice in slurred)
        if not note.tie_start:
            del open_ties[key]
        return
    notes.append(
        ExpectedNote(
            id=note.id,
            bar=bar.number,
            pass_=pass_,
            beat=note.onset_quarters,
            onset_quarters=start + note.onset_quarters,
            duration_quarters=note.duration_quarters,
            sounding_midi=note.sounding_midi,
            written_pitch=note.written_pitch,
            part=part,
            staff=note.staff,
            voice=note.voice,
            grace=note.grace,
            articulations=note.articulations,
            slurred_to_next=note.voice in slurred,
            dynamics=note.dynamics,
            unpitched=note.unpitched,
        )
    )
    if note.tie_start:
        open_ties[key] = len(notes) - 1


def _end(note: ExpectedNote) -> float:
    return note.onset_quarters + note.duration_quarters


def without_notation(bars: int, beats: int, beat_type: int) -> Expectation:
    """A passage of a printed book, of which only the metre and the number of bars are known.

    Raises:
        PassageError: a number of bars or a metre that makes no sense.
    """
    if not 0 < bars <= MAX_BARS_WITHOUT_NOTATION or not 0 < beats <= 32 or beat_type not in (1, 2, 4, 8, 16):
        raise PassageError(
            "passage.metre",
            worded(
                "{bars} bars of {beats}/{beat_type} make no passage. Write the metre like 4/4 and the bars like 1-8.",
                bars=bars,
                beats=beats,
                beat_type=beat_type,
            ),
        )
    length = 4.0 * beats / beat_type
    beat = 1.5 if beat_type == 8 and beats % 3 == 0 and beats > 3 else 4.0 / beat_type
    layout = tuple(
        PlayedBar(number=str(i + 1), pass_=1, start_quarters=i * length, length_quarters=length, beat_quarters=beat) for i in range(bars)
    )
    return Expectation(part=1, instrument="", transposition=0, notes=(), bars=layout)


def of_staff(expectation: Expectation, staff: int | None) -> Expectation:
    """One hand alone: the notes of one staff, in the same bars. Raises ``PassageError`` where it has none."""
    if staff is None:
        return expectation
    notes = tuple(n for n in expectation.notes if n.staff == staff)
    if expectation.notes and not notes:
        raise PassageError("passage.no_such_staff", worded("This hand has nothing to play in these bars."))
    return replace(expectation, notes=notes)


def with_choices(expectation: Expectation, alternatives: Mapping[str, tuple[int, ...]], optional: Collection[str]) -> Expectation:
    """The teacher's choices laid over a passage: further right pitches (sounding MIDI) by note id, and notes that may be left out."""
    if not alternatives and not optional:
        return expectation
    notes = tuple(
        replace(n, alternatives=tuple(alternatives.get(n.id, n.alternatives)), optional=n.optional or n.id in optional)
        for n in expectation.notes
    )
    return replace(expectation, notes=notes)


def _merge_unisons(notes: list[ExpectedNote]) -> list[ExpectedNote]:
    """One pitch at one time is one sound, in however many voices it is written; the longest writing counts."""
    merged: dict[tuple[float, int, bool], int] = {}
    result: list[ExpectedNote] = []
    for note in notes:
        key = (round(note.onset_quarters, 6), note.sounding_midi, note.grace)
        if not note.grace and key in merged:
            at = merged[key]
            if note.duration_quarters > result[at].duration_quarters:
                result[at] = replace(result[at], duration_quarters=note.duration_quarters)
            continue
        merged[key] = len(result)
        result.append(note)
    return result


def expectation_to_json(expectation: Expectation) -> dict[str, Any]:
    """Plain values for the command line's ``expect`` and for freezing with a take."""
    data = asdict(expectation)
    for entry in (*data["notes"], *data["bars"]):
        entry["pass"] = entry.pop("pass_")
    return data
