"""Stages: what is judged, and how strictly, when a passage is at a certain point of being learnt.

The table follows the schools of practice: first reading forgives every pause, sight-reading puts flow first, a final forgives
little. A placement counts from the larger of a floor in milliseconds and a share of the beat. Trained players scatter by
10-30 ms and listeners notice a few per cent of the interval (Friberg & Sundberg 1995): the floors stay well above both.
"""

from __future__ import annotations

from dataclasses import dataclass

from didactor.core.words import _


@dataclass(frozen=True, slots=True, kw_only=True)
class Strictness:
    """From where on a placement counts, as the larger of the two."""

    floor_ms: float
    beat_share: float


WIDE = Strictness(floor_ms=90.0, beat_share=0.18)
NORMAL = Strictness(floor_ms=55.0, beat_share=0.10)
STRICT = Strictness(floor_ms=45.0, beat_share=0.09)


@dataclass(frozen=True, slots=True, kw_only=True)
class Stage:
    """``placement`` None: not judged. ``tempo``: ``band``, ``not_above`` or None. ``hesitations``: ``fault`` or ``shown``.
    ``even_pulse``: bars that broaden or press on are a fault, too. ``preparation_s``: sealed; the clock gives so long.
    ``own_tempo``: the tempo of a take is the student's own choice. ``find_out``: what is in the notes is asked before it is told.
    """

    slug: str
    title: str
    says: str
    placement: Strictness | None
    tempo: str | None
    band_percent: float
    hesitations: str
    length: bool
    takes: int | None = None
    preparation_s: int | None = None
    even_pulse: bool = False
    own_tempo: bool = False
    find_out: bool = False


STAGES: tuple[Stage, ...] = (
    Stage(
        slug="first_reading",
        title=_("First reading"),
        says=_("Notes only. Pauses are free, and even right."),
        placement=None,
        tempo=None,
        band_percent=5.0,
        hesitations="shown",
        length=False,
        own_tempo=True,
        find_out=True,
    ),
    Stage(
        slug="steady",
        title=_("Steady"),
        says=_("Notes and an even pulse, at any tempo up to the target."),
        placement=WIDE,
        tempo="not_above",
        band_percent=5.0,
        hesitations="fault",
        length=True,
        even_pulse=True,
        own_tempo=True,
    ),
    Stage(
        slug="at_tempo",
        title=_("At tempo"),
        says=_("Everything, against the target tempo."),
        placement=NORMAL,
        tempo="band",
        band_percent=5.0,
        hesitations="fault",
        length=True,
    ),
    Stage(
        slug="sight_reading",
        title=_("Sight-reading"),
        says=_("Flow first: keep going. Notes come after."),
        placement=WIDE,
        tempo="band",
        band_percent=15.0,
        hesitations="fault",
        length=False,
        takes=1,
        preparation_s=60,
        find_out=True,
    ),
    Stage(
        slug="rehearsal",
        title=_("Rehearsal"),
        says=_("Everything, as if it were the day itself. Several takes, one is sent."),
        placement=NORMAL,
        tempo="band",
        band_percent=5.0,
        hesitations="fault",
        length=True,
    ),
    Stage(
        slug="final",
        title=_("Final"),
        says=_("Everything, strictly, in one take."),
        placement=STRICT,
        tempo="band",
        band_percent=4.0,
        hesitations="fault",
        length=True,
        takes=1,
    ),
)

BY_SLUG = {stage.slug: stage for stage in STAGES}
