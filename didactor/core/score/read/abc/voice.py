"""What is in force and what is waiting in one voice of a tune while it is read."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from fractions import Fraction

from didactor.core.score.read.abc.fields import Key
from didactor.core.score.read.road_words import JUMPS, meaning_of
from didactor.core.score.write.draft import DraftBar, DraftNote, Pitch


@dataclass
class Voice:
    """One voice being read."""

    name: str
    clef: str = "treble"
    octaves: int = 0
    transposition: int = 0
    key: Key = field(default_factory=Key)
    metre: tuple[int, int, str] | None = None
    unit: Fraction = Fraction(1, 8)
    bars: list[DraftBar] = field(default_factory=lambda: [DraftBar()])
    altered: dict[str, int] = field(default_factory=dict)
    tied: list[Pitch] = field(default_factory=list)
    graces: list[DraftNote] = field(default_factory=list)
    pending: DraftNote = field(default_factory=lambda: DraftNote(nominal=Fraction(0)))
    tuplet: list[int] = field(default_factory=list)
    broken: Fraction | None = None
    open_slurs: int = 0
    ending: str = ""
    line_notes: list[DraftNote] = field(default_factory=list)
    verse: int = 0

    @property
    def bar(self) -> DraftBar:
        return self.bars[-1]

    def end_bar(self, sign: str, numbers: str | None) -> None:
        """A bar line: its sign, and the ending that it opens."""
        colons_before = len(sign) - len(sign.lstrip(":"))
        colons_after = len(sign) - len(sign.rstrip(":")) if colons_before < len(sign) else 1
        if set(sign) == {":"}:
            colons_before = colons_after = 1
        if self.bar.notes:
            self._words_at_the_end()
            self.close_bar(sign)
        before = self.bars[-2] if len(self.bars) > 1 else None
        if colons_before and before is not None:
            before.repeat_end = colons_before + 1
            before.ending_stop, self.ending = self.ending, ""
        elif self.ending and before is not None and (re.search(r"\|\||\|\]|\[\||:", sign) or numbers):
            before.ending_stop, self.ending = self.ending, ""
        if colons_after:
            self.bar.repeat_start = True
        if numbers:
            self.bar.ending_start = self.ending = numbers

    def _words_at_the_end(self) -> None:
        """“Fine” or “D.C.” after the last note of a bar belongs to it, not to the next note."""
        meaning = meaning_of(self.pending.words or "")
        if meaning in JUMPS:
            self.bar.jump = meaning
        elif meaning in ("fine", "tocoda"):
            self.bar.marks.append(meaning)
        else:
            return
        self.pending.words = ""

    def close_bar(self, sign: str) -> None:
        """What comes now is in the next bar."""
        if "||" in sign:
            self.bar.style = "light-light"
        elif "|]" in sign:
            self.bar.style = "light-heavy"
        self.altered = {}
        self.bars.append(DraftBar())
