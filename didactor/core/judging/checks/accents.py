from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from didactor.core.hearing.hearing import Status
from didactor.core.judging.evidence import Evidence, NoteJudgement
from didactor.core.judging.registry import Finding, check
from didactor.core.words import _, counted

#: So many accents at least, each against the plain notes beside it; below this difference none is heard.
FEWEST, LEAST_DB, NEAR = 4, 1.0, 3
#: An accent that is heard as one, the least scatter of levels, and by how many standard errors its absence must be sure.
USUAL_DB, SCATTER_DB, SURE = 2.5, 0.8, 2.5
MARKS = {"accent", "strong-accent"}


@check(
    code="dynamics.accents",
    title=_("Accents not heard"),
    category="dynamics",
    unit="dB",
    reference="median level of accented notes above their unaccented neighbours under the same dynamic mark",
)
def accents(evidence: Evidence) -> Iterator[Finding]:
    """What is marked with an accent is no louder than what stands beside it."""
    if evidence.zones is None or evidence.targets.stage == "first_reading":
        return
    notes = [n for n in evidence.notes if n.status is Status.CORRECT and n.loudness_db is not None and not n.note.grace]
    marked = [i for i, n in enumerate(notes) if MARKS & set(n.note.articulations)]
    differences = [d for i in marked if (d := _above_neighbours(notes, i)) is not None]
    if len(differences) < FEWEST or float(np.median(differences)) >= LEAST_DB:
        return
    # Chance must hardly explain that accents of the usual size look like this.
    error = max(SCATTER_DB, float(np.std(differences))) / len(differences) ** 0.5
    if (USUAL_DB - float(np.mean(differences))) / error < SURE:
        return
    bars = list(dict.fromkeys(notes[i].note.bar for i in marked))
    yield Finding(
        code="dynamics.accents",
        category="dynamics",
        text=counted(
            "The accents are hardly louder than the notes beside them, in bar {bars}.",
            "The accents are hardly louder than the notes beside them, in bars {bars}.",
            len(bars),
            bars=", ".join(bars[:8]),
        ),
        confidence=0.7,
        severity=4.2,
        note_ids=tuple(notes[i].note.id for i in marked),
        size=float(np.median(differences)),
        unit="dB",
    )


def _above_neighbours(notes: list[NoteJudgement], index: int) -> float | None:
    beside = [
        n.loudness_db
        for n in notes[max(0, index - NEAR) : index + NEAR + 1]
        if n.loudness_db is not None and not MARKS & set(n.note.articulations) and n.note.dynamics == notes[index].note.dynamics
    ]
    own = notes[index].loudness_db
    return own - float(np.median(beside)) if len(beside) >= 2 and own is not None else None
