"""ChordPro in: words with chords above them to a strummed chart, one chord a bar unless a grid says otherwise.

A bar is strummed on every beat. In a grid (``{start_of_grid}``) bars stand between bar lines; a dot repeats, and several chords in a
bar share it evenly; what stands outside the outermost bar lines is a label. Under a capo the shapes that are written sound higher.
Notes written as ABC inside a song are a piece of their own beside it.
"""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass, field, replace
from fractions import Fraction

from didactor.core.errors import Problem, ScoreError
from didactor.core.score.chords import NO_CHORD, parse_chord
from didactor.core.score.read.abc.fields import Key, read_key, read_metre
from didactor.core.score.read.abc.tune import abc_to_musicxml, tunes_in
from didactor.core.score.read.formats import Format, Found, register
from didactor.core.score.write.draft import DraftBar, DraftNote, DraftPart, write_draft
from didactor.core.words import worded

MAX_BARS = 2000
_SHORT = {
    "t": "title",
    "st": "subtitle",
    "sog": "start_of_grid",
    "eog": "end_of_grid",
    "soc": "start_of_chorus",
    "eoc": "end_of_chorus",
    "sot": "start_of_tab",
    "eot": "end_of_tab",
    "c": "comment",
}
#: Directives that say nothing about what is played.
_PASSED_OVER = re.compile(
    r"subtitle|comment\w*|c[ib]|(start|end)_of_\w+|[se]o[vb]|album|year|copyright|duration|new_page|np|column_break|colb|define|key_\w+"
)
_NEW_SONG = re.compile(r"(?im)^\s*\{\s*(?:new_song|ns)\s*\}\s*$")
#: Parts of a song in another notation.
_FOREIGN = ("tab", "ly", "svg", "textblock")
_ABC = re.compile(r"(?ims)^\s*\{\s*start_of_abc\b[^}]*\}[ \t]*$(.*?)(?:^\s*\{\s*end_of_abc\s*\}[ \t]*$|\Z)")
_BAR_LINE = re.compile(r":\|:?|\|[:|.]?")
_DIRECTIVE = re.compile(r"\{\s*([A-Za-z_]+)\s*:?\s*(.*?)\s*\}")


@dataclass
class _Bar:
    """Chords with the words under each, in the metre that held there."""

    chords: list[tuple[str, str]]
    metre: tuple[int, int, str]
    repeat_start: bool = False
    repeat_end: bool = False


@dataclass
class _Sheet:
    title: str = ""
    composer: str = ""
    key: Key = field(default_factory=Key)
    metre: tuple[int, int, str] = (4, 4, "")
    tempo: float | None = None
    capo: int = 0
    bars: list[_Bar] = field(default_factory=list)
    chorus: list[_Bar] = field(default_factory=list)
    chorus_from: int | None = None
    problems: list[Problem] = field(default_factory=list)


def songs_in(text: str) -> list[str]:
    """The songs of a file, which ``{new_song}`` divides."""
    return [song for song in _NEW_SONG.split(text) if song.strip()]


def pieces_in(song: str) -> list[Found]:
    """A song's chart and the tunes inside it, each as MusicXML with what was not understood.

    Raises:
        ScoreError: neither chords nor notes in it.
    """
    song = song.replace("\r\n", "\n").replace("\r", "\n")
    tunes: list[Found] = []
    refused: list[Problem] = []
    for block in _ABC.findall(song):
        for tune in tunes_in(block):
            try:
                tunes.append(abc_to_musicxml(_in_the_song(tune, song)))
            except ScoreError as error:
                refused.append(
                    Problem(code="score.tune", text=worded("The ABC inside this song is left out. {message}", message=error.message))
                )
    try:
        charts = [chordpro_to_musicxml(_ABC.sub("", song))]
    except ScoreError:
        if not tunes:
            raise
        charts = []
    pieces = [*charts, *tunes]
    pieces[0][1].extend(refused)
    return pieces


def _in_the_song(tune: str, song: str) -> str:
    """A tune with the title, the metre and the key of its song where it has none of its own."""
    told = {_SHORT.get(d[1].lower(), d[1].lower()): d[2] for d in _DIRECTIVE.finditer(song)}
    missing = {"T": told.get("title", ""), "M": told.get("time", "4/4"), "L": "1/8", "K": told.get("key", "C")}
    head = [f"{name}:{value}" for name, value in missing.items() if value and not re.search(rf"(?m)^{name}:", tune)]
    # The key ends the head of a tune; one that has its own key keeps it where it is.
    return "\n".join([*head, *filter(str.strip, tune.splitlines())])


def chordpro_to_musicxml(text: str) -> Found:
    """The chart of a song to MusicXML, and what was not understood.

    Raises:
        ScoreError: no chords in it.
    """
    sheet = _Sheet()
    inside = ""
    for raw in text.replace("\r", "\n").splitlines():
        line = raw.strip()
        if not line or line.startswith("#"):
            continue
        directive = _DIRECTIVE.fullmatch(line)
        if directive:
            name = _SHORT.get(directive[1].lower(), directive[1].lower())
            if name.removeprefix("start_of_") in ("grid", *_FOREIGN):
                inside = name.removeprefix("start_of_")
            elif name.removeprefix("end_of_") in ("grid", *_FOREIGN):
                inside = ""
            else:
                _directive(sheet, name, directive[2])
        elif inside == "grid":
            _grid(sheet, line)
        elif inside:
            _tell(sheet, worded("What is written as “{inside}” in this song is not read.", inside=inside))
        else:
            _words(sheet, line)
    if not sheet.bars:
        raise ScoreError(
            "score.no_chords",
            worded("There are no chords in this text. Write them in brackets before the words, like “[C]Over the [G]sound”."),
        )
    if len(sheet.bars) > MAX_BARS:
        raise ScoreError("score.too_long", worded("The chart comes to more than {max_bars} bars.", max_bars=MAX_BARS))
    return write_draft([_part(sheet)], sheet.title, sheet.composer), sheet.problems


def _directive(sheet: _Sheet, name: str, value: str) -> None:
    if name == "title":
        sheet.title = value
    elif name in ("artist", "composer", "lyricist"):
        sheet.composer = sheet.composer or value
    elif name == "key":
        key = read_key(value)
        if key is None:
            _tell(sheet, worded("The key “{value}” was not understood.", value=value))
        else:
            sheet.key = key
    elif name == "time":
        metre = read_metre(value)
        if metre is None:
            _tell(sheet, worded("The metre “{value}” was not understood.", value=value))
        else:
            sheet.metre = metre
    elif name == "capo":
        sheet.capo = int(value) if re.fullmatch(r"[0-9]{1,2}", value) and int(value) < 12 else 0
    elif name == "meta":
        of, _, what = value.partition(" ")
        _directive(sheet, of.lower() if of.lower() != "meta" else "comment", what.strip())
    elif name == "start_of_chorus":
        sheet.chorus_from = len(sheet.bars)
    elif name == "end_of_chorus" and sheet.chorus_from is not None:
        sheet.chorus, sheet.chorus_from = sheet.bars[sheet.chorus_from :], None
    elif name == "chorus":
        # A chorus that is not there yet stands in the song as a word alone.
        sheet.bars += [replace(bar) for bar in sheet.chorus]
    elif name == "tempo":
        found = re.match(r"\d+", value)
        sheet.tempo = float(found[0]) if found else None
    elif not _PASSED_OVER.fullmatch(name):
        _tell(sheet, worded("The directive “{name}” is not read.", name=name))


def _known(sheet: _Sheet, chord: str) -> str:
    """The chord as we write it; nothing where none sounds, or where it is not understood: its bar stays, and it is said."""
    if chord.strip() in NO_CHORD:
        return ""
    try:
        return parse_chord(chord).text
    except ValueError:
        _tell(sheet, worded("The chord “{chord}” was not understood: its bar is there, without a chord to strum.", chord=chord))
        return ""


def _words(sheet: _Sheet, line: str) -> None:
    pieces = re.split(r"\[([^\]\[]{0,80})\]", line)
    for chord, words in zip(pieces[1::2], pieces[2::2], strict=True):
        if not chord.startswith("*"):  # an annotation
            sheet.bars.append(_Bar(chords=[(_known(sheet, chord), words.strip())], metre=sheet.metre))


def _grid(sheet: _Sheet, line: str) -> None:
    """One line of a grid. Before its first bar line and after its last stand labels."""
    signs = list(_BAR_LINE.finditer(line))
    if len(signs) < 2:
        cells = [("", line, "")]
    else:
        cells = [(a[0], line[a.end() : b.start()], b[0]) for a, b in itertools.pairwise(signs)]
    for before, cell, after in cells:
        chords: list[str] = []
        for word in cell.split():
            if word in (".", "/", "%", "%%"):
                if word.startswith("%") and not chords and sheet.bars:
                    chords += [chord for chord, _ in sheet.bars[-1].chords]
                continue
            chords.append(_known(sheet, word))
        if not chords and cell.strip() and sheet.bars:
            chords.append(sheet.bars[-1].chords[-1][0])  # only dots: the chord goes on
        if chords:
            sheet.bars.append(
                _Bar(
                    chords=[(chord, "") for chord in chords],
                    metre=sheet.metre,
                    repeat_start=before.endswith(":"),
                    repeat_end=after.startswith(":"),
                )
            )


def _part(sheet: _Sheet) -> DraftPart:
    bars: list[DraftBar] = []
    for index, written in enumerate(sheet.bars):
        beats, beat_type, _ = written.metre
        compound = beat_type == 8 and beats % 3 == 0
        beat = Fraction(3, 2) if compound else Fraction(4, beat_type)
        strokes = beats // 3 if compound else beats
        chords = written.chords
        bar = DraftBar(repeat_start=written.repeat_start, repeat_end=2 if written.repeat_end else 0)
        if index == 0 or written.metre != sheet.bars[index - 1].metre:
            bar.metre = written.metre
        places = [number * len(chords) // strokes for number in range(strokes)]
        for number, at in enumerate(places):
            first = number == 0 or at != places[number - 1]
            note = DraftNote(nominal=beat, stroke=True, slash=True)
            if first:
                note.harmony = chords[at][0]
            words = _shared_out(chords[at][1], places.count(at))[number - places.index(at)]
            if words:
                note.lyrics = [(1, words[:80], "single")]
            bar.notes.append(note)
        bars.append(bar)
    bars[0].fifths, bars[0].tempo_qpm = sheet.key.fifths, sheet.tempo
    bars[-1].style = "light-heavy"
    return DraftPart(name=worded("Guitar"), bars=bars, transposition=sheet.capo)


def _shared_out(words: str, strokes: int) -> list[str]:
    """Words dealt out over a chord's strokes, about as many letters on each, so that they do not run into the next bar's."""
    shares: list[list[str]] = [[] for _ in range(strokes)]
    letters, passed = len(words), 0
    for word in words.split():
        shares[min(strokes - 1, passed * strokes // max(1, letters))].append(word)
        passed += len(word) + 1
    return [" ".join(share) for share in shares]


def _tell(sheet: _Sheet, text: str) -> None:
    if all(p.text != text for p in sheet.problems):
        sheet.problems.append(Problem(code="score.chordpro", text=text))


register(
    Format(
        title="ChordPro",
        suffixes=(".cho", ".chordpro", ".crd", ".pro", ".txt"),
        place=40,
        recognises=lambda sample: bool(re.search(r"\[[A-G][#b]?[^\]]{0,8}\]|\{\s*(t|title|sog|start_of_(grid|abc))\b", sample.text)),
        read=lambda sample: [piece for song in songs_in(sample.text) for piece in pieces_in(song)],
    )
)
