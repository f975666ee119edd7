"""Chord symbols: what sounds in them, from MusicXML and from plain text in the spellings that songbooks use.

A symbol is a root, a kind (all of MusicXML 4's but the functional ones), alterations and a bass: ``Am``, ``F#m7``, ``C/E``, ``G7#9``,
``Bb6/9``, ``Eø``, ``C^7``. What cannot be understood is told by an error, never taken for something else.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from lxml import etree

from didactor.core.score.model import ChordSymbol
from didactor.core.units import STEP_SEMITONES

#: Intervals above the root in semitones, by MusicXML's kind; the text is how the symbol is usually written.
KINDS: dict[str, tuple[str, tuple[int, ...]]] = {
    "major": ("", (0, 4, 7)),
    "minor": ("m", (0, 3, 7)),
    "dominant": ("7", (0, 4, 7, 10)),
    "major-seventh": ("maj7", (0, 4, 7, 11)),
    "minor-seventh": ("m7", (0, 3, 7, 10)),
    "diminished": ("dim", (0, 3, 6)),
    "augmented": ("aug", (0, 4, 8)),
    "diminished-seventh": ("dim7", (0, 3, 6, 9)),
    "half-diminished": ("m7b5", (0, 3, 6, 10)),
    "augmented-seventh": ("aug7", (0, 4, 8, 10)),
    "major-minor": ("mmaj7", (0, 3, 7, 11)),
    "suspended-second": ("sus2", (0, 2, 7)),
    "suspended-fourth": ("sus4", (0, 5, 7)),
    "major-sixth": ("6", (0, 4, 7, 9)),
    "minor-sixth": ("m6", (0, 3, 7, 9)),
    "dominant-ninth": ("9", (0, 4, 7, 10, 2)),
    "major-ninth": ("maj9", (0, 4, 7, 11, 2)),
    "minor-ninth": ("m9", (0, 3, 7, 10, 2)),
    "dominant-11th": ("11", (0, 4, 7, 10, 2, 5)),
    "major-11th": ("maj11", (0, 4, 7, 11, 2, 5)),
    "minor-11th": ("m11", (0, 3, 7, 10, 2, 5)),
    "dominant-13th": ("13", (0, 4, 7, 10, 2, 9)),
    "major-13th": ("maj13", (0, 4, 7, 11, 2, 9)),
    "minor-13th": ("m13", (0, 3, 7, 10, 2, 9)),
    "power": ("5", (0, 7)),
    "pedal": ("", (0,)),
}
_BY_TEXT = {text: kind for kind, (text, _) in reversed(KINDS.items())}
_SIGNS = {"": 0, "#": 1, "b": -1, "##": 2, "bb": -2}
_ROOT = re.compile(r"([A-G])(##|#|bb|b)?")
_BASS = re.compile(r"/([A-G])(#|b)?$")
#: Beginnings of a quality, the longer ones first, and what they mean.
_QUALITIES = (
    (re.compile(r"(?:m|min|mi|-)(?:maj|Maj|ma|M|Δ|\^)7?"), "mmaj"),
    (re.compile(r"maj|Maj|MAJ|ma(?!r|dd)|M|Δ|\^|j(?=7)"), "maj"),
    (re.compile(r"min|mi|m|-"), "m"),
    (re.compile(r"ø7?|Ø7?|hdim7?"), "half"),
    (re.compile(r"dim|o(?!mit)|°"), "dim"),
    (re.compile(r"aug|\+(?!5|9|1)"), "aug"),
)
_NUMBER = re.compile(r"6/9|69|13|11|9|7|6|5")
_MODIFIER = re.compile(
    r"(?P<sus>sus(?P<to>2|4)?)|add(?P<added_sign>b|#)?(?P<added>2|4|6|9|11|13)|(?P<sign>b|#|-|\+)(?P<altered>5|9|11|13)"
    r"|(?:omit|no)(?P<omitted>3|5)|(?P<alt>alt)|(?P<two>2)|(?P<four>4)"
)
_DEGREE_SEMITONES = {1: 0, 2: 2, 3: 4, 4: 5, 5: 7, 6: 9, 7: 10, 8: 0, 9: 2, 10: 4, 11: 5, 12: 7, 13: 9}
_PLAIN = {"♭": "b", "♯": "#", "–": "-", "−": "-", "△": "Δ"}
#: What stands where no chord sounds.
NO_CHORD = ("N.C.", "NC", "n.c.", "N.C", "none")


@dataclass(frozen=True, slots=True, kw_only=True)
class Degree:
    """One sound more, less or other: its number above the root, its alteration, and ``add``, ``alter`` or ``subtract``."""

    value: int
    alter: int
    how: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Symbol:
    """A symbol taken apart; ``text`` is it in our spelling."""

    step: str
    sign: str
    kind: str
    degrees: tuple[Degree, ...]
    bass: tuple[str, str] | None

    @property
    def text(self) -> str:
        bass = f"/{self.bass[0]}{self.bass[1]}" if self.bass else ""
        return f"{self.step}{self.sign}{KINDS[self.kind][0]}{_in_text(self.degrees)}{bass}"

    @property
    def pitch_classes(self) -> tuple[int, ...]:
        """The root first; a bass that is not in the chord last."""
        root = STEP_SEMITONES[self.step] + _SIGNS[self.sign]
        intervals = _with_degrees(KINDS[self.kind][1], self.degrees)
        classes = tuple(dict.fromkeys((root + interval) % 12 for interval in intervals))
        bass = (STEP_SEMITONES[self.bass[0]] + _SIGNS[self.bass[1]]) % 12 if self.bass else None
        return classes if bass is None or bass in classes else (*classes, bass)


def parse_chord(text: str) -> Symbol:
    """A symbol as it is written in a songbook. Raises ``ValueError`` for one that is not understood, whole."""
    plain = "".join(_PLAIN.get(c, c) for c in text.strip())
    root = _ROOT.match(plain)
    if root is None:
        raise ValueError(f"not a chord: {text!r}")
    rest = plain[root.end() :]
    found = _BASS.search(rest)
    bass = (found[1], found[2] or "") if found else None
    rest = re.sub(r"[(),\s]", "", rest[: found.start()] if found else rest)
    kind, degrees, rest = _kind_of(rest)
    while rest:
        modifier = _MODIFIER.match(rest)
        if modifier is None:
            raise ValueError(f"not a chord: {text!r}")
        kind, more = _modified(kind, modifier)
        degrees += more
        rest = rest[modifier.end() :]
    return Symbol(step=root[1], sign=root[2] or "", kind=kind, degrees=tuple(degrees), bass=bass)


def _kind_of(rest: str) -> tuple[str, list[Degree], str]:
    """Kind by quality and number, what is added by them, and what is left of the text."""
    quality = ""
    for pattern, meaning in _QUALITIES:
        if found := pattern.match(rest):
            quality, written, rest = meaning, found[0], rest[found.end() :]
            break
    if quality == "mmaj":
        return "major-minor", [], rest
    if quality == "half":
        return "half-diminished", [], rest
    number = _NUMBER.match(rest)
    size = number[0] if number else ""
    left = rest[number.end() :] if number else rest
    if size in ("6/9", "69"):
        return ("minor-sixth" if quality == "m" else "major-sixth"), [Degree(value=9, alter=0, how="add")], left
    if size == "5" and quality not in ("", "aug"):
        return _BY_TEXT[{"maj": ""}.get(quality, quality)], [], rest
    if quality == "dim":
        return ("diminished-seventh" if size == "7" else "diminished"), [], left if size == "7" else rest
    if quality == "aug":
        degrees = [Degree(value=9, alter=0, how="add")] if size == "9" else []
        return ("augmented-seventh" if size in ("7", "9") else "augmented"), degrees, left if size in ("7", "9") else rest
    if quality == "maj":
        # A triangle, a roof or an M7 alone is the seventh chord; “maj” and “M” alone are the triad.
        if not size:
            return ("major-seventh" if written in "Δ^j" else "major"), [], rest
        return _BY_TEXT[f"maj{size}" if size != "6" else "6"], [], left
    return _BY_TEXT[f"{quality}{size}"], [], left


def _modified(kind: str, modifier: re.Match[str]) -> tuple[str, list[Degree]]:
    if modifier["sus"] or modifier["four"]:
        to = modifier["to"] or "4"
        if kind == "major":
            return ("suspended-second" if to == "2" else "suspended-fourth"), []
        return kind, [Degree(value=3, alter=0, how="subtract"), Degree(value=int(to), alter=0, how="add")]
    if modifier["two"]:
        return kind, [Degree(value=9, alter=0, how="add")]
    if modifier["added"]:
        return kind, [Degree(value=int(modifier["added"]), alter=_SIGNS[modifier["added_sign"] or ""], how="add")]
    if modifier["omitted"]:
        return kind, [Degree(value=int(modifier["omitted"]), alter=0, how="subtract")]
    if modifier["alt"]:
        altered = [Degree(value=5, alter=-1, how="alter"), Degree(value=9, alter=-1, how="add"), Degree(value=9, alter=1, how="add")]
        return "dominant", altered
    value, alter = int(modifier["altered"]), {"b": -1, "-": -1, "#": 1, "+": 1}[modifier["sign"]]
    if value == 5:
        if kind == "minor-seventh" and alter < 0:
            return "half-diminished", []
        return kind, [Degree(value=5, alter=alter, how="alter")]
    return kind, [Degree(value=value, alter=alter, how="alter" if value == 9 and kind.endswith("ninth") else "add")]


def _with_degrees(intervals: tuple[int, ...], degrees: tuple[Degree, ...]) -> tuple[int, ...]:
    sounding = list(intervals)
    for degree in degrees:
        natural = _DEGREE_SEMITONES.get(degree.value, 0)
        if degree.how in ("alter", "subtract"):
            # The third or seventh of this kind may be flat already.
            near = next((i for i in (natural, natural - 1, natural + 1) if i in sounding and i != 0), None)
            if near is not None:
                sounding.remove(near)
        if degree.how != "subtract":
            sounding.append((natural + degree.alter) % 12)
    return tuple(sounding)


def _in_text(degrees: tuple[Degree, ...]) -> str:
    words = []
    gone = [d for d in degrees if d.how == "subtract" and d.value == 3]
    for degree in degrees:
        sign = {-1: "b", 0: "", 1: "#"}.get(degree.alter, "")
        if gone and degree.how == "add" and degree.value in (2, 4) and not degree.alter:
            words.append(f"sus{degree.value}")
        elif degree.how == "subtract":
            words += [] if gone and any(d.how == "add" and d.value in (2, 4) for d in degrees) else [f"no{degree.value}"]
        else:
            words.append(f"{sign}{degree.value}" if degree.alter else f"add{degree.value}")
    return "".join(words)


def chord_pitch_classes(text: str) -> tuple[int, ...]:
    """Pitch classes of a symbol (``Am``, ``F#m7``, ``C/E``), the root first. Raises ``ValueError`` for one not known."""
    return parse_chord(text).pitch_classes


def write_harmony(parent: etree._Element, text: str) -> None:
    """A symbol as a ``<harmony>``. Raises ``ValueError`` for one not known."""
    symbol = parse_chord(text)
    harmony = etree.SubElement(parent, "harmony")
    _write_pitch(harmony, "root", symbol.step, symbol.sign)
    written = f"{KINDS[symbol.kind][0]}{_in_text(symbol.degrees)}"
    etree.SubElement(harmony, "kind", text=written).text = symbol.kind
    if symbol.bass:
        _write_pitch(harmony, "bass", *symbol.bass)
    for degree in symbol.degrees:
        # The kind's text says it all; the engraver is not to print it again.
        element = etree.SubElement(harmony, "degree", {"print-object": "no"})
        for name, value in (("degree-value", degree.value), ("degree-alter", degree.alter), ("degree-type", degree.how)):
            etree.SubElement(element, name).text = str(value)


def _write_pitch(harmony: etree._Element, tag: str, step: str, sign: str) -> None:
    element = etree.SubElement(harmony, tag)
    etree.SubElement(element, f"{tag}-step").text = step
    if sign:
        etree.SubElement(element, f"{tag}-alter").text = str(_SIGNS[sign])


def read_harmony(element: etree._Element, bar_index: int, onset_quarters: float, transposition: int) -> ChordSymbol | None:
    """A ``<harmony>`` as a symbol that sounds ``transposition`` semitones from what is written; None where no chord sounds.

    Raises:
        ValueError: a kind that is not understood.
    """
    kind = (element.findtext("kind") or "major").strip()
    step = (element.findtext("root/root-step") or "").strip().upper()
    if kind == "none" or step not in STEP_SEMITONES:
        return None
    if kind not in KINDS:
        raise ValueError(kind)
    bass = (element.findtext("bass/bass-step") or "").strip().upper()
    symbol = Symbol(
        step=step,
        sign=_sign_of(element.findtext("root/root-alter")),
        kind=kind,
        degrees=tuple(d for degree in element.iterfind("degree") if (d := _read_degree(degree)) is not None),
        bass=(bass, _sign_of(element.findtext("bass/bass-alter"))) if bass in STEP_SEMITONES else None,
    )
    classes = tuple((pitch + transposition) % 12 for pitch in symbol.pitch_classes)
    return ChordSymbol(bar_index=bar_index, onset_quarters=onset_quarters, text=symbol.text, pitch_classes=classes)


def _sign_of(alter: str | None) -> str:
    value = round(float(alter or 0))
    return next((sign for sign, known in _SIGNS.items() if known == value), "")


def _read_degree(element: etree._Element) -> Degree | None:
    value = (element.findtext("degree-value") or "").strip()
    if not re.fullmatch(r"[0-9]{1,2}", value) or int(value) not in _DEGREE_SEMITONES:
        return None
    how = (element.findtext("degree-type") or "add").strip()
    return Degree(value=int(value), alter=round(float(element.findtext("degree-alter") or 0)), how=how)
