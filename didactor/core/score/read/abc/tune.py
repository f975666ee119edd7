"""ABC tunes to MusicXML. A cursor walks the lines and puts bars together for each voice."""

from __future__ import annotations

import re
from fractions import Fraction

from didactor.core.errors import Problem, ScoreError
from didactor.core.score.chords import parse_chord
from didactor.core.score.read.abc.fields import Key, default_unit, read_clef, read_key, read_metre, read_tempo, read_unit
from didactor.core.score.read.abc.tokens import Token, length_of, notes_inside, tokens
from didactor.core.score.read.abc.voice import Voice
from didactor.core.score.read.road_words import meaning_of
from didactor.core.score.write.draft import DraftNote, DraftPart, Pitch, write_draft
from didactor.core.words import worded

MAX_BYTES = 400_000
MAX_TUNES = 2000
#: In all the tunes of a file, by its letters; and in one bar, where a bar line may be missing.
MAX_NOTES, MAX_IN_BAR = 40_000, 1000
_ALTERS = {"^^": 2, "^": 1, "=": 0, "_": -1, "__": -2}
_TUPLET_TIME = {2: 3, 3: 2, 4: 3, 6: 2, 8: 3}
#: Decorations by our marks; dynamics are told apart.
_NAMES = {
    "staccato": ". staccato",
    "turn": "~ roll turn",
    "fermata": "H fermata",
    "accent": "L accent > emphasis",
    "mordent": "M lowermordent mordent",
    "inverted-mordent": "P uppermordent pralltriller",
    "trill-mark": "T trill",
    "up-bow": "u upbow",
    "down-bow": "v downbow",
    "inverted-turn": "invertedturn",
    "tenuto": "tenuto",
    "staccatissimo": "wedge",
    "strong-accent": "marcato ^",
    "open-string": "open",
    "thumb-position": "thumb",
    "snap-pizzicato": "snap",
    "stopped": "+ plus",
    "breath-mark": "breath shortphrase",
    "caesura": "mediumphrase",
}
_MARKS = {name: mark for mark, names in _NAMES.items() for name in names.split()}
#: Words or another notation inside a tune, which are no notes.
_TEXT_BLOCK = re.compile(r"(?ms)^%%begin(\w+).*?(?:^%%end\1[^\n]*\n?|\Z)")
_DYNAMICS = ("pppp", "ppp", "pp", "p", "mp", "mf", "f", "ff", "fff", "ffff", "sfz")
_JUMPS = {"D.C.": "dacapo", "D.S.": "dalsegno", "dacapo": "dacapo", "dalsegno": "dalsegno"} | {
    f"{short}al{end}": name for short, name in (("D.C.", "dacapo"), ("D.S.", "dalsegno")) for end in ("fine", "coda")
}


def tunes_in(text: str) -> list[str]:
    """The tunes of a file, each from its ``X:`` line on; a text without one is a single tune.

    Raises:
        ScoreError: far too much.
    """
    if len(text) > MAX_BYTES:
        raise ScoreError("score.too_large", worded("The ABC file is larger than 400 kB. Split it and try again."))
    notes = sum(len(re.findall("[A-Ga-gxz]", line)) for line in text.splitlines() if not re.match(r"[A-Za-z]:(?!\|)|%", line))
    if notes > MAX_NOTES:
        raise ScoreError(
            "score.too_large",
            worded(
                "The ABC file holds some {notes} notes; {max_notes} can be read at once. Split it and try again.",
                notes=notes,
                max_notes=MAX_NOTES,
            ),
        )
    pieces = re.split(r"(?m)^(?=X:)", text.replace("\r\n", "\n").replace("\r", "\n"))
    tunes = [p for p in pieces if re.search(r"(?m)^K:", p)]
    if len(tunes) > MAX_TUNES:
        raise ScoreError(
            "score.too_large", worded("The file holds more than {max_tunes} tunes. Split it and try again.", max_tunes=MAX_TUNES)
        )
    return tunes or [text]


def abc_to_musicxml(tune: str) -> tuple[bytes, list[Problem]]:
    """One tune to MusicXML, and what was not understood.

    Raises:
        ScoreError: no key line, or no notes.
    """
    if not re.search(r"(?m)^K:", tune):
        raise ScoreError(
            "score.abc_no_key",
            worded("This is no ABC tune: it has no key. Begin with lines like “X:1”, “M:4/4”, “L:1/8”, “K:D”, then the notes."),
        )
    reader = _Reader()
    for line in _TEXT_BLOCK.sub("", tune).splitlines():
        reader.read(line)
    parts = reader.finished()
    return write_draft(parts, reader.title, reader.composer), reader.problems


class _Reader:
    def __init__(self) -> None:
        self.title = self.composer = ""
        self.problems: list[Problem] = []
        self._told: set[str] = set()
        self._metre: tuple[int, int, str] | None = (4, 4, "")
        self._unit: Fraction | None = None
        self._tempo: str | None = None
        self._key: Key | None = None
        self._voices: dict[str, Voice] = {}
        self._voice_fields: dict[str, str] = {}
        self._current = "1"
        self._ended = False

    # --- lines ---------------------------------------------------------------------------------------------------------

    def read(self, raw: str) -> None:
        line = re.sub(r"(?<!\\)%.*$", "", raw).rstrip()
        if self._ended or not line:
            if self._key is not None and not raw.strip() and self._voices:
                self._ended = True
            return
        field_line = re.match(r"^([A-Za-z]):(.*)$", line)
        # In the body a bar may begin with a letter and a colon only as a field; “|:” begins with a bar line.
        if field_line and not re.match(r"^[A-Ga-g]:\|", line):
            self._field(field_line[1], field_line[2].strip())
        elif self._key is not None:
            self._music(line.rstrip("\\"))

    def _field(self, name: str, value: str) -> None:
        if name == "T":
            self.title = self.title or value
        elif name == "C":
            self.composer = self.composer or value
        elif name in ("M", "L", "Q", "K", "V"):
            self._change(name, value)
        elif name == "w":
            self._lyrics(value)
        elif name == "P":
            self._part_of_tune(value)

    def _part_of_tune(self, value: str) -> None:
        """Within the music a letter over the staff; in the head an order, which is for the teacher to take over."""
        words = value.split("%")[0].strip()
        if self._key is not None and words:
            self._voice().bar.rehearsal = words[:20]
        elif words:
            self._tell(
                "parts",
                worded(
                    "The order of parts “{words}” is not followed by itself; type it as the order of playing, with spaces.", words=words
                ),
            )

    def _change(self, name: str, value: str) -> None:
        started = self._key is not None
        voice = self._voice() if started and name not in ("V",) and (self._voices or name != "K") else None
        if name == "V":
            self._choose_voice(value)
        elif name == "M":
            metre = read_metre(value)
            if metre is None and value.lower() not in ("none", ""):
                self._tell("metre", worded("The metre “{value}” was not understood.", value=value))
            if voice:
                self._set_metre(voice, metre)
            else:
                self._metre = metre
        elif name == "L":
            unit = read_unit(value)
            if unit is None:
                self._tell("unit", worded("The unit length “{value}” was not understood.", value=value))
            elif voice:
                voice.unit = unit
            else:
                self._unit = unit
        elif name == "Q":
            if voice:
                voice.bar.tempo_qpm = read_tempo(value, voice.unit)
            else:
                self._tempo = value
        elif name == "K":
            self._set_key(voice, value)

    def _set_metre(self, voice: Voice, metre: tuple[int, int, str] | None) -> None:
        voice.metre = metre
        if voice.bar.notes:
            voice.close_bar("")
        voice.bar.metre = metre

    def _set_key(self, voice: Voice | None, value: str) -> None:
        key = read_key(value)
        if key is None:
            self._tell("key", worded("The key “{value}” was not understood.", value=value))
            key = Key()
        if voice is None:
            self._key = key
            return
        if voice.bar.notes and voice.bar.fifths is None and key.fifths != voice.key.fifths:
            # Inside a bar the signature can only be shown from the next one on; the notes follow it at once.
            self._tell("key_inside", worded("A key that changes inside a bar is shown at the next bar."))
        voice.key = key
        voice.bar.fifths = key.fifths
        if key.clef:
            voice.bar.clef = key.clef

    def _choose_voice(self, value: str) -> None:
        words = value.split(None, 1)
        if not words:
            return
        self._current = words[0]
        if len(words) > 1:
            self._voice_fields[words[0]] = words[1]
        if words[0] in self._voices and len(words) > 1:
            self._dress(self._voices[words[0]], words[1])

    def _voice(self) -> Voice:
        if self._current not in self._voices:
            key = self._key or Key()
            unit = self._unit or default_unit(self._metre)
            voice = Voice(name="", key=key, metre=self._metre, unit=unit, clef=key.clef or "treble", octaves=key.octaves)
            voice.transposition = key.transpose
            voice.bar.fifths, voice.bar.metre = key.fifths, self._metre
            if self._tempo and not self._voices:
                voice.bar.tempo_qpm = read_tempo(self._tempo, unit)
            self._voices[self._current] = voice
            self._dress(voice, self._voice_fields.get(self._current, ""))
        return self._voices[self._current]

    def _dress(self, voice: Voice, words: str) -> None:
        clef, octaves, transpose = read_clef(words)
        voice.clef, voice.octaves = clef or voice.clef, octaves or voice.octaves
        voice.transposition = transpose or voice.transposition
        name = re.search(r"\b(?:nm|name)=(?:\"([^\"]*)\"|(\S+))", words)
        if name:
            voice.name = name[1] or name[2] or ""

    # --- music ---------------------------------------------------------------------------------------------------------

    def _music(self, line: str) -> None:
        voice = self._voice()
        voice.line_notes, voice.verse = [], 0
        overlay = False
        for token in tokens(line):
            voice = self._voice()
            if overlay and token.kind != "bar":
                continue
            overlay = False
            if token.kind == "overlay":
                self._tell("overlay", worded("A second voice within a bar (“&”) is not read; write it as a voice of its own."))
                overlay = True
            elif token.kind == "field":
                self._field(token.values["name"], token.values["value"].strip())
            elif token.kind in ("note", "chord", "rest"):
                self._sound(voice, token)
            elif token.kind == "bar":
                voice.end_bar(token.values["sign"], token.values["numbers"])
            elif token.kind == "ending":
                voice.bar.ending_start = voice.ending = token.values["numbers"]
            elif token.kind == "unknown":
                self._tell(f"sign {token.text}", worded("The sign “{text}” was not understood.", text=token.text))
            else:
                self._modifier(voice, token)

    def _modifier(self, voice: Voice, token: Token) -> None:
        kind = token.kind
        if kind == "grace":
            for note in notes_inside(token.values["inside"]):
                if note.kind == "note":
                    pitch = self._pitch(voice, note)
                    voice.graces.append(DraftNote(nominal=Fraction(1, 2), pitches=[pitch], grace=True))
        elif kind == "text":
            self._text(voice, token.values["text"])
        elif kind in ("decoration", "mark"):
            self._decorate(voice, token.values.get("name") or token.values.get("old") or token.values.get("sign", ""))
        elif kind == "tuplet":
            self._begin_tuplet(voice, token)
        elif kind == "tie":
            self._tie(voice)
        elif kind == "slur":
            self._slur(voice, token.text)
        elif kind == "broken":
            self._break(voice, token.text)

    def _text(self, voice: Voice, text: str) -> None:
        if text[:1] in "^_<>@":
            if text[1:].strip():
                voice.pending.words = text[1:].strip()
            return
        try:
            voice.pending.harmony = parse_chord(text).text
        except ValueError:
            if re.match(r"[A-G](?![a-z]{3})", text.strip()) and meaning_of(text) is None:
                self._tell(
                    worded("chord {text}", text=text), worded("The chord symbol “{text}” is not known; it stands as words.", text=text)
                )
            voice.pending.words = text.strip()

    def _decorate(self, voice: Voice, name: str) -> None:
        if name in _DYNAMICS:
            voice.pending.dynamics = name
        elif name in _MARKS:
            voice.pending.marks.append(_MARKS[name])
        elif name in ("segno", "S"):
            voice.bar.marks.append("segno")
        elif name in ("coda", "O"):
            voice.bar.marks.append("coda")
        elif name in ("fine", "dacoda"):
            voice.bar.marks.append({"fine": "fine", "dacoda": "tocoda"}[name])
        elif name in _JUMPS:
            voice.bar.jump = _JUMPS[name]
        elif name.isdigit() and len(name) == 1:
            voice.pending.fingering = name
        elif not re.match(r"^(crescendo|diminuendo|<|>)[()]$|^[<>][()]$", name):
            self._tell(worded("decoration {name}", name=name), worded("The decoration “{name}” was not understood.", name=name))

    def _begin_tuplet(self, voice: Voice, token: Token) -> None:
        p = int(token.values["p"])
        compound = voice.metre is not None and voice.metre[1] == 8 and voice.metre[0] % 3 == 0
        q = int(token.values["q"] or 0) or _TUPLET_TIME.get(p, 3 if compound else 2)
        count = int(token.values["r"] or 0) or p
        voice.tuplet = [p, q, count, count]

    def _tie(self, voice: Voice) -> None:
        notes = [n for n in voice.bar.notes if not n.grace] or (
            [n for n in voice.bars[-2].notes if not n.grace] if len(voice.bars) > 1 else []
        )
        if notes and notes[-1].pitches:
            for pitch in notes[-1].pitches:
                pitch.tie_start = True
            voice.tied = list(notes[-1].pitches)

    def _slur(self, voice: Voice, sign: str) -> None:
        if sign == "(":
            voice.pending.slur_starts += 1
            return
        last = next((n for b in reversed(voice.bars) for n in reversed(b.notes) if n.pitches), None)
        if last is not None and voice.open_slurs > 0:
            last.slur_stops += 1
            voice.open_slurs -= 1

    def _break(self, voice: Voice, sign: str) -> None:
        last = next((n for n in reversed(voice.bar.notes) if not n.grace), None)
        if last is None:
            return
        short = Fraction(1, 2 ** len(sign))
        first, second = (2 - short, short) if sign[0] == ">" else (short, 2 - short)
        last.nominal *= first
        voice.broken = second

    def _sound(self, voice: Voice, token: Token) -> None:
        """A note, chord or rest with all that was waiting for it."""
        if token.kind == "rest" and token.values["kind"] in "ZX":
            self._whole_bars(voice, token)
            return
        note = voice.pending
        voice.pending = DraftNote(nominal=Fraction(0))
        try:
            length = length_of(token.values["length"])
        except (ValueError, ZeroDivisionError):
            self._tell("length", worded("The length of “{text}” was not understood.", text=token.text))
            length = Fraction(1)
        if token.kind == "chord":
            inside = notes_inside(token.values["inside"])
            own = [n for n in inside if n.kind == "note"]
            if own:
                length *= self._length(own[0])
                note.pitches = [self._pitch(voice, n) for n in own]
                self._ties_inside(note, inside)
        elif token.kind == "note":
            note.pitches = [self._pitch(voice, token)]
        note.nominal = length * voice.unit * 4 * (voice.broken or 1)
        voice.broken = None
        if voice.clef == "percussion" and note.pitches:
            note.pitches, note.stroke = [], True
        voice.open_slurs += note.slur_starts
        self._continue_tuplet(voice, note)
        self._end_ties(voice, note)
        voice.bar.notes += [*voice.graces, note]
        if len(voice.bar.notes) > MAX_IN_BAR:
            raise ScoreError(
                "score.no_bar_lines",
                worded("More than {max_notes} notes stand in one bar. Are bar lines (“|”) missing?", max_notes=MAX_IN_BAR),
            )
        voice.graces = []
        if note.pitches or note.stroke:
            voice.line_notes.append(note)

    def _length(self, token: Token) -> Fraction:
        try:
            return length_of(token.values["length"])
        except (ValueError, ZeroDivisionError):
            return Fraction(1)

    def _ties_inside(self, note: DraftNote, inside: list[Token]) -> None:
        at = -1
        for token in inside:
            at += token.kind == "note"
            if token.kind == "tie" and 0 <= at < len(note.pitches):
                note.pitches[at].tie_start = True

    def _end_ties(self, voice: Voice, note: DraftNote) -> None:
        for pitch in note.pitches:
            if any((t.step, t.octave) == (pitch.step, pitch.octave) for t in voice.tied):
                before = next(t for t in voice.tied if (t.step, t.octave) == (pitch.step, pitch.octave))
                # A sign holds through a tie over the bar line.
                pitch.alter, pitch.tie_stop = before.alter, True
        for before in voice.tied:
            if not any((p.step, p.octave) == (before.step, before.octave) for p in note.pitches):
                before.tie_start = False
        voice.tied = [p for p in note.pitches if p.tie_start]

    def _continue_tuplet(self, voice: Voice, note: DraftNote) -> None:
        if not voice.tuplet:
            return
        p, q, count, left = voice.tuplet
        note.actual, note.normal = p, q
        if left == count:
            note.tuplet = "start"
        elif left == 1:
            note.tuplet = "stop"
        voice.tuplet = [p, q, count, left - 1] if left > 1 else []

    def _whole_bars(self, voice: Voice, token: Token) -> None:
        metre = voice.metre or (4, 4, "")
        count = int(token.values["length"]) if token.values["length"].isdigit() else 1
        for number in range(min(count, 200)):
            if number:
                voice.close_bar("")
            voice.bar.notes.append(DraftNote(nominal=Fraction(4 * metre[0], metre[1])))

    def _pitch(self, voice: Voice, token: Token) -> Pitch:
        letter = token.values["letter"]
        octave = (5 if letter.islower() else 4) + token.values["octave"].count("'") - token.values["octave"].count(",") + voice.octaves
        step = letter.upper()
        if token.values["accidental"]:
            voice.altered[step] = _ALTERS[token.values["accidental"]]
        return Pitch(step=step, alter=voice.altered.get(step, voice.key.alters[step]), octave=octave)

    # --- bars ----------------------------------------------------------------------------------------------------------

    def _lyrics(self, value: str) -> None:
        voice = self._voices.get(self._current)
        if voice is None:
            return
        voice.verse += 1
        notes = iter(voice.line_notes)
        before = ""
        for syllable in re.findall(r"[^\s\-*_|]+-?|[-*_|]", value.replace("\\-", "\u2011")):
            if syllable == "|":
                continue
            note = next(notes, None)
            if note is None:
                self._tell("lyrics", worded("There are more syllables than notes under one line."))
                return
            if syllable in "*_-":
                continue
            goes_on, went_on = syllable.endswith("-"), before.endswith("-")
            kind = {(False, False): "single", (True, False): "begin", (True, True): "middle", (False, True): "end"}[goes_on, went_on]
            note.lyrics.append((voice.verse, syllable.rstrip("-").replace("~", " "), kind))
            before = syllable

    def finished(self) -> list[DraftPart]:
        """The parts. Raises ``ScoreError`` without a note."""
        parts = []
        for number, voice in enumerate(self._voices.values(), start=1):
            bars = voice.bars if voice.bar.notes or len(voice.bars) == 1 else voice.bars[:-1]
            if voice.ending and bars:
                bars[-1].ending_stop = voice.ending
            name = voice.name or (worded("Voice {number}", number=number) if len(self._voices) > 1 else worded("Melody"))
            parts.append(DraftPart(name=name, bars=bars, clef=voice.clef, transposition=voice.transposition))
        if not any(n.pitches or n.stroke for p in parts for b in p.bars for n in b.notes):
            raise ScoreError(
                "score.abc_no_notes",
                worded("There is not a single note in this tune. Write notes after the K: line, like “CDEF | GABc |”."),
            )
        return parts

    def _tell(self, what: str, text: str) -> None:
        if what not in self._told:
            self._told.add(what)
            self.problems.append(Problem(code="score.abc", text=text))
