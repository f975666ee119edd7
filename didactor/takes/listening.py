"""One take to be listened to and looked at: its passage with what was heard, what the player needs, remarks in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.urls import reverse

from didactor.core.comparing.click_tracks import click_tracks
from didactor.core.comparing.thinking import draw_thinking, thinking_in_words, thinking_times
from didactor.core.formats.lanes import View, score_with_lanes
from didactor.core.formats.result import FindingResult, Result
from didactor.core.judging.categories import TITLES
from didactor.core.score.expected import Expectation
from didactor.core.score.write.engraving import BESIDE
from didactor.core.words import counted, worded
from didactor.library.drawings import bar_numbers, drawn, plain_drawings
from didactor.library.models import Engraving, Passage, ReferenceKind
from didactor.library.notation import expectation_of, expectation_of_passage
from didactor.library.sounds import known_references
from didactor.takes.models import Analysis, Take, TakeState
from didactor.takes.others import takes_of_task


def passage_of(take: Take) -> Passage:
    """The passage a take was judged against, which need not be the assignment's of today."""
    if take.basis["passage_id"] == take.task.passage_id:
        return take.task.passage
    return Passage.objects.select_related("revision__piece").defer("revision__prepared").get(pk=take.basis["passage_id"])


def heard_drawings(passage: Passage, analysis: Analysis | None) -> dict[str, str]:
    """The passage beside words, with marks and lanes where something was heard."""
    if analysis is None:
        return plain_drawings(passage, BESIDE)
    result = analysis.heard

    def draw(engraving: Engraving, passage: Passage) -> str:
        view = View(lanes=result.ear.lanes, bar_numbers=bar_numbers(passage))
        return score_with_lanes(engraving.svg, engraving.geometry, result, view)

    return drawn(f"heard:{analysis.pk}", passage, BESIDE, draw)


def player_data(take: Take, result: Result | None) -> dict[str, Any] | None:
    """What the player in the browser needs: the sound, its delay, and when each note and bar sounds; None without a sound to play.

    Where a bar begins is no judgement: it is there to listen with before what was heard is opened (``result`` is None until then).
    """
    if not take.playback:
        return None
    notes = [n for n in (result.notes if result else None) or () if n.onset_s is not None]
    analysis = take.latest_analysis
    bars: dict[tuple[str, int], float | None] = {}
    for note in (analysis.heard.notes if analysis else None) or ():
        if note.onset_s is not None:
            bars.setdefault((note.bar, note.pass_), note.onset_s)
    return {
        "sound": reverse("takes:sound", args=[take.pk]),
        "delay": take.playback_delay_s,
        "duration": take.duration_s,
        "peaks": take.peaks,
        "notes": [[n.id, n.pass_, n.onset_s, n.offset_s] for n in notes],
        "bars": [[bar, str(pass_), time_s] for (bar, pass_), time_s in bars.items()],
        "clicks": click_tracks(result, _music(take)) if result else {},
        "films": _films(take, {place: time_s for place, time_s in bars.items() if time_s is not None}),
    }


def _music(take: Take) -> Expectation:
    basis = take.basis
    return expectation_of(revision_id=basis["revision_id"], part=basis["part"], bars=basis["bars"], order=basis["order"])


def _films(take: Take, bars: dict[tuple[str, int], float]) -> list[dict[str, Any]]:
    """What can be seen while a take sounds: its own picture, and the teacher's films at the same bar.

    ``places`` are pairs of the take's seconds and the film's, ascending, two at least.
    """
    if not take.picture:
        return []
    delay = take.picture_delay_s
    own = {"title": worded("This take"), "url": reverse("takes:picture", args=[take.pk]), "places": [[0.0, delay], [1.0, 1.0 + delay]]}
    passage, films = passage_of(take), [own]
    for reference in (r for r in known_references(passage) if r.kind == ReferenceKind.VIDEO):
        quarters, seconds = np.array(reference.laid["anchors"] if reference.laid else [], dtype=float).T
        starts = {(bar.number, bar.pass_): bar.start_quarters for bar in expectation_of_passage(passage).bars}
        places = [[time_s, float(np.interp(starts[place], quarters, seconds))] for place, time_s in bars.items() if place in starts]
        if len(places) > 1:
            url = reverse("library:reference", args=[reference.pk])
            films.append({"title": f"{reference.created_by.name}: {reference.title}", "url": url, "places": places})
    return films


@dataclass(frozen=True, kw_only=True)
class Remark:
    """A finding as pages show it; ``note_index`` says which note's evidence stands behind it."""

    finding: FindingResult
    title: str
    note_index: int | None


def remarks_of(result: Result | None) -> list[Remark]:
    """Findings by category, the gravest first."""
    found: Sequence[FindingResult] = (result.findings if result else None) or ()
    order = list(dict.fromkeys(f.category for f in found))
    return [
        Remark(finding=f, title=TITLES[f.category], note_index=result.index_of_note(f.note_ids, f.pass_) if result else None)
        for f in sorted(found, key=lambda f: order.index(f.category))
    ]


@dataclass(frozen=True, kw_only=True)
class ThinkingShown:
    words: str
    drawing: str


def thinking_shown(take: Take) -> ThinkingShown | None:
    """The pauses of a first reading, take by take up to this one; None where there is nothing to compare."""
    if take.targets.stage != "first_reading":
        return None
    earlier = [t for t in takes_of_task(take) if t.number <= take.number]
    same = [t for t in earlier if t.basis.get("step") == take.basis.get("step") and t.basis["passage_id"] == take.basis["passage_id"]]
    rows = thinking_times([(str(t), t.heard) for t in same if t.heard is not None])
    words = thinking_in_words(rows)
    bars = list(dict.fromkeys(bar.number for bar in expectation_of_passage(passage_of(take)).bars))
    return ThinkingShown(words=words, drawing=draw_thinking(rows, bars)) if words else None


def gain_since_first(take: Take) -> str:
    """What was gained since the first take, where the teacher wants that kept and shown: remarks then and now. Empty for the first one."""
    if not take.task.assignment.first_kept or take.on_the_way is not None:
        return ""
    same = (t for t in takes_of_task(take) if t.basis.get("step") == take.basis.get("step") and t.state == TakeState.ANALYSED)
    first = next((t for t in same if t.latest_analysis is not None), None)
    if first is None or first.pk == take.pk or take.heard is None or first.latest_analysis is None:
        return ""
    before, now = first.latest_analysis.summary.get("findings") or 0, len(take.heard.findings or ())
    return worded("In the first take {before}, in this one {now}.", before=_remarks(before), now=_remarks(now))


def _remarks(count: int) -> str:
    if count == 0:
        return worded("nothing was heard to mend")
    return counted("1 thing was heard to mend", "{count} things were heard to mend", count)
