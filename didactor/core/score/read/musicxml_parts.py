"""One ``<part>`` of prepared MusicXML to a ``Part``: a cursor walks the measures and collects bars and notes."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Any

from lxml import etree

from didactor.core.errors import Problem, ScoreError
from didactor.core.score.chords import read_harmony
from didactor.core.score.clefs import clef_name
from didactor.core.score.model import Bar, ChordSymbol, Hairpin, Note, Part, Words
from didactor.core.score.read.road_words import JUMPS, MARKS, meaning_of
from didactor.core.units import BEAT_UNIT_QUARTERS, pitch_to_midi
from didactor.core.words import worded

Element = etree._Element

#: More than any real part; a longer one is an attack or a mistake.
MAX_BARS = 5000
MAX_NOTES = 100_000

DYNAMICS = ("pppp", "ppp", "pp", "p", "mp", "mf", "f", "ff", "fff", "ffff", "fp", "sf", "sfz", "fz", "sffz", "rf", "rfz", "n")
BOWINGS = ("up-bow", "down-bow", "open-string", "harmonic", "thumb-position", "snap-pizzicato")


@dataclass
class _Cursor:
    """What is in force at the reading position of a part."""

    divisions: Fraction = Fraction(1)
    beats: int = 4
    beat_type: int = 4
    fifths: int = 0
    transposition: int = 0
    staves: int = 1
    contents: list[float] = field(default_factory=list)
    clef: str = ""
    dynamics: list[tuple[int, float, str]] = field(default_factory=list)
    endings: tuple[int, ...] = ()
    bars: list[Bar] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    chords: list[ChordSymbol] = field(default_factory=list)
    hairpins: list[Hairpin] = field(default_factory=list)
    words: list[Words] = field(default_factory=list)
    open_hairpins: dict[str, tuple[bool, tuple[int, float]]] = field(default_factory=dict)
    problems: list[Problem] = field(default_factory=list)


def read_part(part: Element, entry: Element | None, index: int) -> tuple[Part, list[Problem], list[float]]:
    """Read one part; ``entry`` is its ``<score-part>``, ``index`` counts from 1.

    Returns the part, its problems, and how much of every bar is filled with notes and rests, in quarters.
    """
    cursor = _Cursor()
    measures = part.findall("measure")
    if len(measures) > MAX_BARS:
        raise ScoreError(
            "score.too_long",
            worded("Part {index} has more than {max_bars} bars. Split the score and try again.", index=index, max_bars=MAX_BARS),
        )
    for bar_index, measure in enumerate(measures):
        _read_measure(cursor, measure, bar_index)
    name = (entry.findtext("part-name") or "").strip() if entry is not None else ""
    instrument = (entry.findtext("score-instrument/instrument-name") or "").strip() if entry is not None else ""
    result = Part(
        index=index,
        name=name or worded("Part {index}", index=index),
        instrument=instrument or name or worded("Part {index}", index=index),
        transposition=cursor.transposition,
        staves=cursor.staves,
        bars=tuple(cursor.bars),
        notes=tuple(sorted(_with_dynamics(cursor), key=lambda n: (n.bar_index, n.onset_quarters, not n.grace))),
        chords=tuple(cursor.chords),
        hairpins=tuple(cursor.hairpins),
        words=tuple(cursor.words),
        clef=cursor.clef or "treble",
    )
    return result, cursor.problems, cursor.contents


def _with_dynamics(cursor: _Cursor) -> list[Note]:
    marks = sorted(cursor.dynamics, key=lambda m: m[:2])
    places = [m[:2] for m in marks]
    result = []
    for note in cursor.notes:
        at = bisect_right(places, (note.bar_index, note.onset_quarters)) - 1
        result.append(replace(note, dynamics=marks[at][2]) if at >= 0 else note)
    return result


def _read_measure(cursor: _Cursor, measure: Element, bar_index: int) -> None:
    position, last_onset, longest = Fraction(0), Fraction(0), Fraction(0)
    found: dict[str, Any] = {}
    marks: list[str] = []
    after_bar: tuple[int, ...] | None = None
    for element in measure:
        if element.tag == "attributes":
            _attributes(cursor, element)
        elif element.tag in ("backup", "forward"):
            shift = _number(element.findtext("duration")) / cursor.divisions
            position = max(Fraction(0), position - shift) if element.tag == "backup" else position + shift
        elif element.tag == "note":
            onset = last_onset if element.find("chord") is not None else position
            duration = _number(element.findtext("duration")) / cursor.divisions
            _note(cursor, element, bar_index, onset, duration)
            if element.find("chord") is None:
                last_onset = position
                position += duration
        elif element.tag == "barline":
            after_bar = _barline(cursor, element, found, after_bar)
        elif element.tag in ("direction", "sound"):
            _direction(cursor, element, found, marks)
            _loudness(cursor, element, (bar_index, float(position)))
            for words in element.iterfind("direction-type/words"):
                if text := " ".join((words.text or "").split()):
                    cursor.words.append(Words(bar_index=bar_index, onset_quarters=float(position), text=text[:80]))
        elif element.tag == "harmony":
            _harmony(cursor, element, bar_index, float(position))
        longest = max(longest, position)
    full = Fraction(4 * cursor.beats, cursor.beat_type)
    cursor.contents.append(float(longest))
    length = longest if longest > 0 else full
    number = measure.get("number", "").strip() or str(bar_index + 1)
    if bar_index == 0 and Fraction(0) < longest < full:
        number = "0"
    cursor.bars.append(
        Bar(
            id=measure.get("id", f"b{bar_index}"),
            index=bar_index,
            number=number,
            length_quarters=float(length),
            beats=cursor.beats,
            beat_type=cursor.beat_type,
            fifths=cursor.fifths,
            endings=cursor.endings,
            marks=tuple(marks),
            **found,
        )
    )
    if after_bar is not None:
        cursor.endings = after_bar


def _harmony(cursor: _Cursor, element: Element, bar_index: int, position: float) -> None:
    """A chord symbol; one that is not understood is said and not taken for another."""
    try:
        symbol = read_harmony(element, bar_index, position, cursor.transposition)
    except ValueError:
        written = element.find("kind")
        text = (written.get("text") or written.text or "").strip()[:30] if written is not None else ""
        words = worded(
            "A chord symbol was not understood and is not judged: “{findtext}{text}”.",
            findtext=(element.findtext("root/root-step") or "").strip(),
            text=text,
        )
        if all(p.text != words for p in cursor.problems):
            cursor.problems.append(Problem(code="score.chord", text=words))
        return
    if symbol is not None:
        cursor.chords.append(symbol)


def _number(text: str | None) -> Fraction:
    value = Fraction((text or "0").strip() or 0)
    if value < 0 or value > 10**7:
        raise ValueError(f"duration {text}")
    return value


def _attributes(cursor: _Cursor, element: Element) -> None:
    if element.findtext("divisions"):
        cursor.divisions = _number(element.findtext("divisions")) or Fraction(1)
    time = element.find("time")
    if time is not None and time.findtext("beats") and time.findtext("beat-type"):
        cursor.beats = sum(int(b) for b in time.findtext("beats", "4").split("+"))
        cursor.beat_type = int(time.findtext("beat-type", "4"))
        if not (0 < cursor.beats <= 64 and 0 < cursor.beat_type <= 128):
            raise ValueError("time signature")
    if element.findtext("key/fifths"):
        cursor.fifths = int(element.findtext("key/fifths", "0"))
    if element.findtext("staves"):
        cursor.staves = max(1, min(8, int(element.findtext("staves", "1"))))
    clef = element.find("clef")
    if clef is not None and not cursor.clef:
        cursor.clef = clef_name(clef)
    transpose = element.find("transpose")
    if transpose is not None:
        octave = int(float(transpose.findtext("octave-change", "0") or 0))
        cursor.transposition = int(float(transpose.findtext("chromatic", "0") or 0)) + 12 * octave


def _note(cursor: _Cursor, element: Element, bar_index: int, onset: Fraction, duration: Fraction) -> None:
    pitch, unpitched = element.find("pitch"), element.find("unpitched")
    if element.find("cue") is not None or (pitch is None and unpitched is None):
        return
    if len(cursor.notes) >= MAX_NOTES:
        raise ScoreError(
            "score.too_long", worded("The part has more than {max_notes} notes. Split the score and try again.", max_notes=MAX_NOTES)
        )
    if pitch is not None:
        step = pitch.findtext("step", "C").strip().upper()
        alter = float(pitch.findtext("alter", "0").strip() or 0)
        octave = int(pitch.findtext("octave", "4").strip())
    else:
        assert unpitched is not None
        step, alter = unpitched.findtext("display-step", "B").strip().upper(), 0.0
        octave = int(unpitched.findtext("display-octave", "4").strip())
    ties = {tie.get("type") for tie in element.findall("tie")} | {t.get("type") for t in element.findall("notations/tied")}
    slurs = {slur.get("type") for slur in element.findall("notations/slur")}
    articulations = [str(child.tag) for child in element.iterfind("notations/articulations/*")]
    articulations += [str(child.tag) for child in element.iterfind("notations/ornaments/*")]
    technical = element.findall("notations/technical/*")
    articulations += [str(child.tag) for child in technical if child.tag in BOWINGS]
    if element.find("notations/fermata") is not None:
        articulations.append("fermata")
    if element.find("notations/arpeggiate") is not None:
        articulations.append("arpeggiate")
    cursor.notes.append(
        Note(
            id=element.get("id", f"n{len(cursor.notes)}"),
            bar_index=bar_index,
            onset_quarters=float(onset),
            duration_quarters=float(duration),
            step=step,
            alter=alter,
            octave=octave,
            sounding_midi=pitch_to_midi(step, alter, octave) + cursor.transposition,
            staff=int(element.findtext("staff", "1") or 1),
            voice=element.findtext("voice", "1").strip() or "1",
            tie_start="start" in ties,
            tie_stop="stop" in ties,
            grace=element.find("grace") is not None,
            articulations=tuple(articulations),
            slur_start="start" in slurs,
            slur_stop="stop" in slurs,
            unpitched=pitch is None,
            fingering=" ".join((child.text or "").strip() for child in technical if child.tag == "fingering").strip()[:12],
        )
    )


def _barline(cursor: _Cursor, element: Element, found: dict[str, Any], after_bar: tuple[int, ...] | None) -> tuple[int, ...] | None:
    """Repeats and endings. Returns the endings in force after this bar, or None when they do not change."""
    repeat = element.find("repeat")
    if repeat is not None and repeat.get("direction") == "forward":
        found["repeat_start"] = True
    if repeat is not None and repeat.get("direction") == "backward":
        found["repeat_end"] = True
        found["repeat_times"] = max(2, min(9, int(repeat.get("times", "2") or 2)))
    ending = element.find("ending")
    if ending is not None:
        if ending.get("type") == "start":
            numbers = [int(n) for n in (ending.get("number") or "1").replace(",", " ").split() if n.isdigit()]
            cursor.endings = tuple(numbers) or (1,)
        else:
            return ()
    return after_bar


def _loudness(cursor: _Cursor, element: Element, place: tuple[int, float]) -> None:
    """Dynamics and hairpins, with their places: they hold for all staves, whichever is read first."""
    for mark in element.iterfind("direction-type/dynamics/*"):
        if mark.tag in DYNAMICS:
            cursor.dynamics.append((*place, str(mark.tag)))
    for wedge in element.iterfind("direction-type/wedge"):
        number = wedge.get("number", "1")
        if wedge.get("type") in ("crescendo", "diminuendo"):
            cursor.open_hairpins[number] = (wedge.get("type") == "crescendo", place)
        elif wedge.get("type") == "stop" and number in cursor.open_hairpins:
            growing, begin = cursor.open_hairpins.pop(number)
            cursor.hairpins.append(Hairpin(growing=growing, begin=begin, end=place))


def _by_words(direction: Element, found: dict[str, Any], marks: list[str]) -> None:
    """“D.C. al Fine”, “Fine”, “To Coda” where no sign for programs stands beside the words."""
    for words in direction.iterfind("direction-type/words"):
        text = " ".join((words.text or "").split())
        meaning = meaning_of(text)
        if meaning in JUMPS:
            found.setdefault("jump", meaning)
        elif meaning is not None and meaning not in marks:
            marks.append(meaning)


def _direction(cursor: _Cursor, element: Element, found: dict[str, Any], marks: list[str]) -> None:
    for kind in ("segno", "coda"):
        if element.find(f"direction-type/{kind}") is not None:
            marks.append(kind)
    rehearsal = " ".join((element.findtext("direction-type/rehearsal") or "").split())
    if rehearsal and "rehearsal" not in found:
        found["rehearsal"] = rehearsal[:20]
    sound = element if element.tag == "sound" else element.find("sound")
    if sound is not None:
        for name in JUMPS:
            if sound.get(name):
                found["jump"] = name
        for name in MARKS:
            if sound.get(name) and name not in marks:
                marks.append(name)
        if sound.get("tempo") and "tempo_qpm" not in found:
            found["tempo_qpm"] = float(sound.get("tempo", "0")) or None
    if element.tag == "direction":
        _by_words(element, found, marks)
    metronome = element.find("direction-type/metronome")
    if metronome is not None and "tempo_qpm" not in found:
        unit = (metronome.findtext("beat-unit") or "").strip()
        if metronome.find("beat-unit-dot") is not None:
            unit = f"dotted_{unit}"
        try:
            found["tempo_qpm"] = float(metronome.findtext("per-minute") or "") * BEAT_UNIT_QUARTERS[unit]
        except (ValueError, KeyError):
            cursor.problems.append(
                Problem(code="score.tempo_mark", text=worded("A tempo mark was not understood; set the tempo on the assignment."))
            )
