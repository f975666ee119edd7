"""What is in force and what is waiting in one voice of a tune while it is read."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

from didactor.core.score.read.abc.fields import Key
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
