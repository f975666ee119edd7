"""What a player finds out before playing: which notes the key touches, how to count, what the notes are called, where it gets loud."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from didactor.core.score.model import Bar, Note, Part
from didactor.core.score.spelling import german_name, key_alters, place, syllable
from didactor.core.words import _, worded

NAMINGS = {
    "letters": _("Letters"),
    "german": _("Letters, with H"),
    "fixed_do": _("Do re mi, fixed"),
    "movable_do": _("Do re mi, from the key note"),
    "numbers": _("Numbers, from the key note"),
    "own": _("Our own names"),
}
_MOVABLE = ("do", "re", "mi", "fa", "sol", "la", "ti")
_SIGNS = {-2: "♭♭", -1: "♭", 0: "", 1: "♯", 2: "𝄪"}
_WRITTEN = {-2: "bb", -1: "b", 0: "", 1: "#", 2: "##"}
_FIFTHS_ORDER = "FCGDAEB"


@dataclass(frozen=True, slots=True, kw_only=True)
class KeyReading:
    """``signs`` as “F sharp”; ``touched`` are the ids of the notes that the signature changes, ``against`` of those with another sign."""

    fifths: int
    signs: tuple[str, ...]
    touched: tuple[str, ...]
    against: tuple[str, ...]


def read_key_signature(notes: list[Note], bars: dict[int, Bar]) -> KeyReading:
    """The first bar's signature, and exactly the notes it touches."""
    fifths = next(iter(bars.values())).fifths if bars else 0
    word = "sharp" if fifths > 0 else "flat"
    order = _FIFTHS_ORDER if fifths > 0 else _FIFTHS_ORDER[::-1]
    touched, against = [], []
    for note in notes:
        if note.unpitched:
            continue
        alters = key_alters(bars[note.bar_index].fifths)
        if round(note.alter) != alters[note.step]:
            against.append(note.id)
        elif alters[note.step]:
            touched.append(note.id)
    return KeyReading(
        fifths=fifths, signs=tuple(f"{step} {word}" for step in order[: abs(fifths)]), touched=tuple(touched), against=tuple(against)
    )


def note_name(note: Note, fifths: int, naming: str, own: Mapping[str, str] | None = None) -> str:
    """A written note by its name.

    Args:
        fifths: the signature that movable names count from (its major key note is do).
        own: a teacher's own names by step (``C``), for the naming ``own``; steps without one keep their letter.
    """
    alter = round(note.alter)
    if note.unpitched:
        return ""
    if naming == "own":
        return ((own or {}).get(note.step) or note.step) + _SIGNS.get(alter, "")
    if naming == "fixed_do":
        return syllable(note.step) + _SIGNS.get(alter, "")
    if naming == "german":
        return german_name(note.step + _WRITTEN.get(alter, ""))
    if naming in ("movable_do", "numbers"):
        tonic = _FIFTHS_ORDER[(fifths + 1) % 7]
        degree = ("CDEFGAB".index(note.step) - "CDEFGAB".index(tonic)) % 7
        off = round((place(note.step, alter) - place(note.step, key_alters(fifths)[note.step])) / 7)
        return (_MOVABLE[degree] if naming == "movable_do" else str(degree + 1)) + _SIGNS.get(off, "")
    return note.step + _SIGNS.get(alter, "")


def loudness_in_words(part: Part, bars: dict[int, Bar]) -> list[str]:
    """Where it is how loud, in the order of the bars."""
    words: list[tuple[int, str]] = []
    before = None
    for note in part.notes:
        if note.bar_index in bars and note.dynamics and note.dynamics != before:
            before = note.dynamics
            words.append(
                (note.bar_index, worded("{dynamics} from bar {number}", dynamics=note.dynamics, number=bars[note.bar_index].number))
            )
    for hairpin in part.hairpins:
        if hairpin.begin[0] in bars:
            number = bars[hairpin.begin[0]].number
            words.append(
                (
                    hairpin.begin[0],
                    worded("louder from bar {number}", number=number)
                    if hairpin.growing
                    else worded("softer from bar {number}", number=number),
                )
            )
    return [text for _, text in sorted(words, key=lambda w: w[0])]
