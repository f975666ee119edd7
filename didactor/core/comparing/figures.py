"""Which figure can check what a listener says of a take, and which things only an ear can know."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from didactor.core.formats.result import FindingResult, Result
from didactor.core.words import _

#: What a row of a checklist is checked by where no figure can: the listener's own ear.
EAR_ONLY = "ear"


@dataclass(frozen=True, slots=True, kw_only=True)
class Figure:
    """``codes``: findings that speak against it (a trailing dot means all that begin so); ``heard``: whether this take can tell."""

    slug: str
    title: str
    category: str
    codes: tuple[str, ...]
    heard: Callable[[Result], bool]

    def contradicts(self, finding: FindingResult) -> bool:
        return any(finding.code == code or (code.endswith(".") and finding.code.startswith(code)) for code in self.codes)


def _placement_judged(result: Result) -> bool:
    return result.targets.stage_rules.placement is not None and result.notes is not None


def _notes_judged(result: Result) -> bool:
    return result.notes is not None and (result.by_pitch or result.chords is not None)


#: In the order in which a teacher chooses among them.
FIGURES = (
    Figure(slug="notes", title=_("right notes"), category="notes", codes=("notes.", "chords."), heard=_notes_judged),
    Figure(
        slug="intonation",
        title=_("cents from the written pitch"),
        category="intonation",
        codes=("intonation.",),
        heard=lambda r: r.by_pitch and r.instrument.bends and r.tuning is not None,
    ),
    Figure(
        slug="entry",
        title=_("first note on time"),
        category="rhythm",
        codes=("rhythm.entry",),
        heard=lambda r: bool(r.pulse and r.pulse.entry),
    ),
    Figure(
        slug="rhythm",
        title=_("notes early and late, uneven pairs"),
        category="rhythm",
        codes=("rhythm.", "tempo.drift"),
        heard=_placement_judged,
    ),
    Figure(
        slug="pulse",
        title=_("steady beat"),
        category="rhythm",
        codes=("tempo.drift", "tempo.bend", "flow.hesitation", "flow.restart", "rhythm.uneven"),
        heard=lambda r: r.pulse is not None and r.targets.stage_rules.hesitations == "fault",
    ),
    Figure(
        slug="tempo",
        title=_("tempo against the one asked for"),
        category="tempo",
        codes=("tempo.",),
        heard=lambda r: r.tempo is not None and r.tempo.played_qpm is not None and r.targets.stage_rules.tempo is not None,
    ),
    Figure(
        slug="flow",
        title=_("pauses, restarts, bars left out"),
        category="flow",
        codes=("flow.",),
        heard=lambda r: r.pulse is not None and r.targets.stage_rules.hesitations == "fault",
    ),
    Figure(slug="count", title=_("number of strokes"), category="rhythm", codes=("rhythm.count",), heard=lambda r: r.count is not None),
    Figure(
        slug="dynamics",
        title=_("loud and soft where marked"),
        category="dynamics",
        codes=("dynamics.",),
        heard=lambda r: bool(r.loudness and any(zone.marked for zone in r.loudness.zones)),
    ),
    Figure(
        slug="length",
        title=_("long notes and rests at full length"),
        category="articulation",
        codes=("articulation.",),
        heard=lambda r: r.targets.stage_rules.length and any(n.length_ratio is not None for n in r.notes or ()),
    ),
    Figure(slug="together", title=_("hands together"), category="hands", codes=("hands.",), heard=lambda r: bool(r.hands)),
)
BY_SLUG = {figure.slug: figure for figure in FIGURES}
#: What checks a row of the usual list.
OF_CATEGORY = {
    "notes": "notes",
    "intonation": "intonation",
    "rhythm": "rhythm",
    "tempo": "tempo",
    "flow": "flow",
    "dynamics": "dynamics",
    "articulation": "length",
}


def figure_of(row_category: str, chosen: str = "") -> Figure | None:
    """The figure that checks a row: the one chosen for it, else that of its category; None: ear only."""
    slug = chosen or OF_CATEGORY.get(row_category, EAR_ONLY)
    return BY_SLUG.get(slug)
