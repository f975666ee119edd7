"""A student's ear beside the machine's: what both heard, what one of them did not, and what no recording can say.

The same thing is meant when both name the same category within a bar of each other. Nothing is counted up to a mark: below ``FEWEST``
places a share would be chance.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from didactor.core.comparing.figures import Figure, figure_of
from didactor.core.formats.result import FindingResult, Result
from didactor.core.hearing.hearing import Status
from didactor.core.words import worded

#: Below so many places compared nothing is said of the whole.
FEWEST = 10
#: A place is the same within so many bars.
NEAR_BARS = 1
#: So much of a bar's notes must have been judged before its silence means that nothing is wrong there.
JUDGED_SHARE = 0.75


class Agreement(StrEnum):
    BOTH = "both"
    MISSED = "missed"
    TOO_HARD = "too_hard"
    UNKNOWABLE = "unknowable"


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnMark:
    """What a student says: of a row of the list (``bar`` empty) or of a bar; ``mend``: that something is to be mended there.

    ``figure``: the slug of the figure that checks the row, where the teacher chose one.
    """

    category: str
    title: str
    mend: bool
    bar: str = ""
    text: str = ""
    figure: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Compared:
    """One place, and who heard it. ``own``: the student's mark, ``heard``: the machine's remark; one of them may be None."""

    agreement: Agreement
    own: OwnMark | None
    heard: FindingResult | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Comparison:
    places: tuple[Compared, ...]

    def of(self, agreement: Agreement) -> tuple[Compared, ...]:
        return tuple(place for place in self.places if place.agreement == agreement)

    @property
    def shared(self) -> tuple[int, int] | None:
        """Heard by both, of all that could be known; None where there are too few places to tell."""
        known = [place for place in self.places if place.agreement != Agreement.UNKNOWABLE]
        return (len(self.of(Agreement.BOTH)), len(known)) if len(known) >= FEWEST else None


def compare(marks: Sequence[OwnMark], result: Result) -> Comparison:
    """Lay a student's marks beside what was heard.

    Pinned places are matched first, then rows; a finding is matched once by a pin, and covered by any row of its kind. A row marked good is
    no place: what was heard against it counts as missed by itself.
    """
    findings = list(result.findings or ())
    order = _order(result)
    taken: set[int] = set()
    places: list[Compared] = []
    for mark in marks:
        if mark.bar and mark.mend:
            places.append(_pinned(mark, findings, result, order, taken))
    for mark in marks:
        if not mark.bar and mark.mend and (place := _row(mark, findings, result, taken)):
            places.append(place)
    places += [Compared(agreement=Agreement.MISSED, own=None, heard=f) for k, f in enumerate(findings) if k not in taken]
    return Comparison(places=tuple(places))


def _pinned(mark: OwnMark, findings: Sequence[FindingResult], result: Result, order: Mapping[str, int], taken: set[int]) -> Compared:
    at = order.get(mark.bar)
    near = [
        k
        for k, f in enumerate(findings)
        if f.category == mark.category and at is not None and any(abs(place - at) <= NEAR_BARS for place in _bars_of(f, result, order))
    ]
    if near:
        fresh = next((k for k in near if k not in taken), near[0])
        taken.add(fresh)
        return Compared(agreement=Agreement.BOTH, own=mark, heard=findings[fresh])
    figure = figure_of(mark.category)
    if figure is None or not figure.heard(result) or not is_judged(result, mark.bar):
        return Compared(agreement=Agreement.UNKNOWABLE, own=mark, heard=None)
    return Compared(agreement=Agreement.TOO_HARD, own=mark, heard=None)


def _row(mark: OwnMark, findings: Sequence[FindingResult], result: Result, taken: set[int]) -> Compared | None:
    """None where a pin has said the same already."""
    figure = figure_of(mark.category, mark.figure)
    meant = [k for k, f in enumerate(findings) if (figure.contradicts(f) if figure else f.category == mark.category)]
    fresh = [k for k in meant if k not in taken]
    if meant:
        # One row speaks for all of its kind.
        taken.update(meant)
        return Compared(agreement=Agreement.BOTH, own=mark, heard=findings[fresh[0]]) if fresh else None
    if figure is None or not figure.heard(result):
        return Compared(agreement=Agreement.UNKNOWABLE, own=mark, heard=None)
    return Compared(agreement=Agreement.TOO_HARD, own=mark, heard=None)


def _order(result: Result) -> dict[str, int]:
    """The place of each printed bar in the order of the score."""
    return {bar: k for k, bar in enumerate(dict.fromkeys(note.bar for note in result.notes or ()))}


def _bars_of(finding: FindingResult, result: Result, order: Mapping[str, int]) -> list[int]:
    ids = set(finding.note_ids)
    bars = {note.bar for note in result.notes or () if note.id in ids} | ({finding.bar} if finding.bar else set())
    return [order[bar] for bar in bars if bar in order]


def is_judged(result: Result, bar: str) -> bool:
    """Whether enough of a bar was judged for silence about it to mean something."""
    inside = [note for note in result.notes or () if note.bar == bar]
    known = [note for note in inside if note.status != Status.UNCERTAIN]
    return bool(inside) and len(known) >= JUDGED_SHARE * len(inside)


class Mended(StrEnum):
    MENDED = "mended"
    STILL = "still"
    CANNOT_TELL = "cannot_tell"


@dataclass(frozen=True, slots=True, kw_only=True)
class PinAnswered:
    """What became of one pin in a later take: where its bar sounds in the earlier one and in this one (seconds), None where not."""

    pin: OwnMark
    state: Mended
    text: str
    before_s: tuple[float, float] | None
    now_s: tuple[float, float] | None


def answer_pins(pins: Sequence[OwnMark], before: Result, now: Result) -> tuple[PinAnswered, ...]:
    """Each pin of an earlier take held against a later one of the same passage.

    A pin is mended where its figure can tell, the bar was judged, and nothing of its kind is heard within a bar of it any more.
    """
    order = _order(now)
    answered = []
    for pin in pins:
        figure = figure_of(pin.category)
        at = order.get(pin.bar)
        still = [
            f
            for f in now.findings or ()
            if f.category == pin.category and at is not None and any(abs(place - at) <= NEAR_BARS for place in _bars_of(f, now, order))
        ]
        state, text = _became(pin, figure, still, now)
        answered.append(PinAnswered(pin=pin, state=state, text=text, before_s=bar_span(before, pin.bar), now_s=bar_span(now, pin.bar)))
    return tuple(answered)


def _became(pin: OwnMark, figure: Figure | None, still: Sequence[FindingResult], now: Result) -> tuple[Mended, str]:
    if still:
        return Mended.STILL, still[0].text
    if figure is None or not figure.heard(now) or not is_judged(now, pin.bar):
        return Mended.CANNOT_TELL, worded("Only an ear can tell: listen to both.")
    return Mended.MENDED, ""


def bar_span(result: Result, bar: str) -> tuple[float, float] | None:
    """From when to when a bar sounds the first time it is played, seconds of the recording."""
    notes = [n for n in result.notes or () if n.bar == bar and n.onset_s is not None]
    if not notes:
        return None
    first = min(n.pass_ for n in notes)
    onsets = [n.onset_s for n in notes if n.pass_ == first and n.onset_s is not None]
    begin = min(onsets)
    later = [n.onset_s for n in result.notes or () if n.onset_s is not None and n.bar != bar and n.onset_s > max(onsets)]
    ends = [n.offset_s for n in notes if n.pass_ == first and n.offset_s is not None]
    return begin, min(later) if later else max([*ends, max(onsets) + 0.5])
