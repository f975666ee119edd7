"""What one attempt at a stone was: faultless, not, or not to be told; with the first place to mend in words."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

from didactor.core.analyse import Analysis
from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence, Hesitation, NoteJudgement
from didactor.core.judging.registry import Finding
from didactor.core.judging.words import heard_in_words, place_in_words
from didactor.core.practising.change import Change
from didactor.core.practising.crossing import Outcome
from didactor.core.words import english, worded

#: A pause counts from this share of a beat on: faultless players stay below 0.35 of it.
PAUSE_BEATS = 0.6
#: A wrong or missed note counts from this confidence on; below it the attempt cannot be told.
SURE = 0.6
#: Codes of findings that count besides notes, by what the crossing asks for.
_RHYTHM = ("flow.", "rhythm.")
#: What a few bars cannot tell: intonation of few notes, one uneven pair, patterns over a whole take. Notes, pauses and restarts are looked
#: at by themselves.
_NEVER = (
    "intonation.",
    "pattern.",
    "rhythm.uneven",
    "tempo.drift",
    "flow.unplayed",
    "flow.hesitation",
    "flow.restart",
    "notes.wrong",
    "notes.missed",
)
#: A note that could not be told in so many of the last attempts leaves the count, and that is said.
DOUBTFUL_IN, DOUBTFUL_OF = 2, 3


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """``says``: what was heard, in words, with its place; ``start_s`` and ``end_s`` where it can be heard. ``at_fault`` and ``doubtful``
    are ids of notes: wrong or missed, and not to be told; ``heard`` the sounding MIDI number in place of each one at fault, None where
    it is missing. ``cause``: why, as far as the score knows. ``changes``: in a drill, what went from what to what, and how late.
    """

    outcome: Outcome
    says: str = ""
    bar: str = ""
    code: str = ""
    start_s: float | None = None
    end_s: float | None = None
    at_fault: tuple[str, ...] = ()
    heard: tuple[int | None, ...] = ()
    doubtful: tuple[str, ...] = ()
    changes: tuple[Change, ...] = ()
    cause: str = ""


def verdict(analysis: Analysis, counts: str = "notes", leave_out: Collection[str] = ()) -> Verdict:
    """Judge one attempt.

    Args:
        counts: ``notes``, ``rhythm`` or ``all`` (see ``crossing.COUNTS``).
        leave_out: ids of notes that cannot be told in this room (``doubtful_notes``).
    """
    evidence = analysis.evidence
    if evidence is None:
        problem = analysis.quality.problems[-1] if analysis.quality.problems else None
        return Verdict(outcome=Outcome.UNSURE, says=problem.text if problem else worded("This could not be judged."), code="sound")
    judged = [n for n in evidence.notes if not n.note.grace and not n.note.optional and n.note.id not in leave_out]
    wrong = [n for n in judged if n.status in (Status.WRONG_PITCH, Status.MISSED) and n.confidence >= SURE]
    doubtful = [n for n in judged if n.status is Status.UNCERTAIN or (n.status is not Status.CORRECT and n.confidence < SURE)]
    known = Verdict(
        outcome=Outcome.CLEAN,
        at_fault=tuple(n.note.id for n in wrong),
        heard=tuple(n.heard_midi if n.status is Status.WRONG_PITCH else None for n in wrong),
        doubtful=tuple(n.note.id for n in doubtful),
    )
    places = _faults(analysis, evidence, wrong, counts)
    if places:
        first = min(places, key=lambda place: place.quarters)
        return replace(
            known, outcome=Outcome.FAULT, says=first.says, bar=first.bar, code=first.code, start_s=first.start_s, end_s=first.end_s
        )
    if doubtful:
        note = doubtful[0].note
        says = worded(
            "Bar {bar}: {in_words} could not be told, so this one neither counts nor takes the count back.",
            bar=note.bar,
            in_words=evidence.in_words(note),
        )
        return replace(known, outcome=Outcome.UNSURE, says=says, bar=note.bar, code="doubtful")
    left_out = next((n.note for n in evidence.notes if n.note.id in leave_out), None)
    if left_out is not None:
        return replace(
            known,
            says=worded(
                "Bar {bar}: {in_words} cannot be told here, so it does not count.", bar=left_out.bar, in_words=evidence.in_words(left_out)
            ),
        )
    return known


@dataclass(frozen=True, slots=True, kw_only=True)
class _Place:
    """Something to mend; ``quarters`` is where in the passage it is."""

    quarters: float
    says: str
    bar: str
    code: str
    start_s: float | None
    end_s: float | None


def _faults(analysis: Analysis, evidence: Evidence, wrong: Sequence[NoteJudgement], counts: str) -> list[_Place]:
    found = [_of_note(evidence, note) for note in wrong]
    for restart in evidence.restarts[:1]:
        says = worded("You began again at bar {to_bar}.", to_bar=restart.to_bar)
        begun = restart.time_s
        found.append(_Place(quarters=-1.0, says=says, bar=restart.to_bar, code="flow.restart", start_s=begun - 1.0, end_s=begun + 1.0))
    if counts != "notes":
        found += [_of_pause(evidence, pause) for pause in evidence.hesitations if _is_long(evidence, pause)]
    return found + [_of_finding(evidence, f) for f in analysis.findings if _counts(f, counts)]


def _counts(finding: Finding, counts: str) -> bool:
    """Whether a finding counts besides."""
    if finding.code.startswith(_NEVER):
        return False
    if finding.category == "notes":
        return True
    return counts == "all" or (counts == "rhythm" and finding.code.startswith(_RHYTHM))


def _quarters(evidence: Evidence, note_index: int) -> float:
    return evidence.expectation.notes[note_index].onset_quarters


def _is_long(evidence: Evidence, pause: Hesitation) -> bool:
    return pause.extra_quarters >= PAUSE_BEATS * evidence.expectation.bar_at(_quarters(evidence, pause.note_index)).beat_quarters


def _of_note(evidence: Evidence, item: NoteJudgement) -> _Place:
    at = item.note.onset_quarters
    start_s, end_s = (item.onset_s, item.offset_s) if item.onset_s is not None else _around(evidence, at)
    says = _note_in_words(evidence, item)
    return _Place(quarters=at, says=says, bar=item.note.bar, code=f"notes.{item.status.value}", start_s=start_s, end_s=end_s)


def _of_pause(evidence: Evidence, pause: Hesitation) -> _Place:
    says, at = worded("Bar {bar}: a pause of {extra_s:.1f} s.", bar=pause.bar, extra_s=pause.extra_s), pause.time_s
    quarters = _quarters(evidence, pause.note_index)
    return _Place(quarters=quarters, says=says, bar=pause.bar, code="flow.hesitation", start_s=at - 1.0, end_s=at + 0.5)


def _of_finding(evidence: Evidence, finding: Finding) -> _Place:
    wanted = set(finding.note_ids)
    at = next((n.onset_quarters for n in evidence.expectation.notes if n.id in wanted), evidence.expectation.length_quarters)
    placed = finding.bar is None or "bar" in english(finding.text).lower()
    says = finding.text if placed else worded("Bar {bar}: {says}", bar=finding.bar, says=finding.text)
    return _Place(quarters=at, says=says, bar=finding.bar or "", code=finding.code, start_s=finding.start_s, end_s=finding.end_s)


def _around(evidence: Evidence, quarters: float) -> tuple[float | None, float | None]:
    """Where a note that did not sound would have been: between its neighbours."""
    before = [n.onset_s for n in evidence.notes if n.onset_s is not None and n.note.onset_quarters <= quarters]
    after = [n.onset_s for n in evidence.notes if n.onset_s is not None and n.note.onset_quarters > quarters]
    if before:
        return before[-1], after[0] if after else before[-1] + 1.0
    return (after[0] - 0.5, after[0]) if after else (None, None)


def _note_in_words(evidence: Evidence, item: NoteJudgement) -> str:
    where, name = place_in_words(evidence.expectation, item.note), evidence.in_words(item.note)
    if item.status is Status.MISSED:
        return worded("{where}: {name} did not sound.", where=where, name=name)
    if item.heard_midi is None:
        return worded("{where}: another note in place of {name}.", where=where, name=name)
    fifths = evidence.expectation.bar_at(item.note.onset_quarters).fifths
    return worded(
        "{where}: {heard} in place of {name}.",
        where=where,
        heard=heard_in_words(item.heard_midi - evidence.shift, item.note, fifths),
        name=name,
    )


def doubtful_notes(last: Sequence[Verdict]) -> frozenset[str]:
    """Ids of notes that could not be told in two of the last three attempts: a stone must be able to become firm."""
    recent = list(last)[-DOUBTFUL_OF:]
    ids = {note for entry in recent for note in entry.doubtful}
    return frozenset(note for note in ids if sum(note in entry.doubtful for entry in recent) >= DOUBTFUL_IN)
