"""Causes that explain several faults at once; what they explain has no remark of its own."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence, NoteJudgement

#: A step is forgotten when so many of its notes, and this share of those judged, sound natural.
FEWEST, LEAST_SHARE = 2, 0.6


def forgotten_accidentals(evidence: Evidence) -> dict[str, list[NoteJudgement]]:
    """Step (``F``) to the notes that are written sharp or flat and were played natural, where that is the rule in this take."""
    written: dict[str, list[NoteJudgement]] = {}
    for item in evidence.notes:
        if item.note.written_pitch[1] in "#b" and item.status in (Status.CORRECT, Status.WRONG_PITCH):
            written.setdefault(item.note.written_pitch[0], []).append(item)
    found = {}
    for step, items in written.items():
        natural = [i for i in items if i.status is Status.WRONG_PITCH and _is_natural(i, evidence.shift)]
        if len(natural) >= FEWEST and len(natural) >= LEAST_SHARE * len(items):
            found[step] = natural
    return found


def _is_natural(item: NoteJudgement, shift: int) -> bool:
    back = -1 if item.note.written_pitch[1] == "#" else 1
    return item.heard_midi is not None and item.heard_midi - shift == item.note.sounding_midi + back


#: So many sounds, and this share of the notes, that belong to no note are not one player's slips.
MANY_EXTRAS, EXTRAS_SHARE = 8, 0.2


def others_sound(evidence: Evidence) -> bool:
    """Whether somebody or something else is heard along with the player."""
    strays = [e for e in evidence.extra if e.midi is not None]
    return len(strays) >= max(MANY_EXTRAS, EXTRAS_SHARE * len(evidence.notes))


@dataclass(frozen=True, slots=True, kw_only=True)
class Run:
    """Bars left out one after the other, as (number, pass). ``is_repeat``: they are all that a repeat would have played again."""

    bars: tuple[tuple[str, int], ...]
    is_repeat: bool


def runs_left_out(evidence: Evidence) -> list[Run]:
    """Bars left out, neighbours in performed order together."""
    order = [(b.number, b.pass_) for b in evidence.expectation.bars]
    skipped = set(evidence.skipped_bars)
    with_notes = {(n.note.bar, n.note.pass_) for n in evidence.notes}
    runs: list[list[tuple[str, int]]] = []
    before = False
    for bar in order:
        if bar in skipped:
            if before:
                runs[-1].append(bar)
            else:
                runs.append([bar])
            before = True
        elif bar in with_notes:
            before = False
    again = {number for number, pass_ in order if pass_ > 1}
    found = []
    for run in runs:
        numbers = {number for number, _ in run}
        other_pass_played = all((n, 3 - p) in with_notes and (n, 3 - p) not in skipped for n, p in run if p in (1, 2))
        found.append(Run(bars=tuple(run), is_repeat=len(run) > 1 and numbers == again and other_pass_played))
    return found


#: Pairs limp when their median share differs from a half by so much, nearly all to the same side, and by so many times what is left
#: to chance: their own spread, or what a steady hand scatters at least.
FEWEST_PAIRS, FROM_PERCENT, SAME_SIDE, SURE, LEAST_SPREAD = 3, 5.0, 0.8, 5.0, 2.0
#: A few pairs must limp more than many.
MANY_PAIRS, FEW_FROM_PERCENT = 6, 7.0


def limp(evidence: Evidence) -> float | None:
    """The first note's share of written-equal pairs, per cent, where they limp the same way throughout; else None."""
    beats = [p.ratio_percent for p in evidence.pairs if not p.half]
    halves = [p.ratio_percent for p in evidence.pairs if p.half]
    return next((value for ratios in (beats, halves) if (value := _common(ratios)) is not None), None)


def _common(ratios: list[float]) -> float | None:
    if len(ratios) < FEWEST_PAIRS:
        return None
    away = np.array(ratios) - 50
    middle = float(np.median(away))
    same_side = float((np.sign(away) == np.sign(middle)).mean())
    spread = max(LEAST_SPREAD, float(1.4826 * np.median(np.abs(away - middle))), float(np.std(away)) if len(away) < 6 else 0.0)
    sure = abs(middle) * len(away) ** 0.5 / spread
    least = FROM_PERCENT if len(away) >= MANY_PAIRS else FEW_FROM_PERCENT
    return 50 + middle if abs(middle) >= least and same_side >= SAME_SIDE and sure >= SURE else None
