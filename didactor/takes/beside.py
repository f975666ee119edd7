"""What can be heard beside a take at the same place: the teacher's own recording, the model, the take before."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from django.urls import reverse

from didactor.core.score.expected import Expectation
from didactor.core.sound.player.take import model_start_s
from didactor.core.words import worded
from didactor.library.models import ModelSound, Passage
from didactor.library.notation import expectation_of_passage
from didactor.library.sounds import references_in_time
from didactor.takes.models import Take, TakeState
from didactor.takes.others import takes_of_task

#: A place of the score and its second: quarters and seconds, ascending.
Anchors = list[tuple[float, float]]


def beside(take: Take, passage: Passage) -> list[dict[str, Any]]:
    """Each with a title, its sound, and ``places``: pairs of the take's seconds and its own, ascending, two at least.

    The take before is one that was handed in too: what a student kept to themselves is not for the teacher's ears.
    """
    music = expectation_of_passage(passage)
    own = anchors_of(take, music)
    if len(own) < 2:
        return []
    found = [*_earlier(take, music), *_references(passage), *_model(take, passage, music)]
    return [{"title": title, "sound": sound, "places": places} for title, sound, other in found if len(places := _pairs(own, other)) > 1]


def anchors_of(take: Take, music: Expectation) -> Anchors:
    """When each moment of the score was played in a take, in the order of the score; what goes back in time is left out."""
    analysis = take.latest_analysis
    starts = {(bar.number, bar.pass_): bar.start_quarters for bar in music.bars}
    moments = sorted(
        (starts[bar, pass_] + quarters, at_s)
        for bar, pass_, quarters, at_s in (analysis.moments if analysis else [])
        if (bar, pass_) in starts
    )
    forward: Anchors = []
    for quarters, at_s in moments:
        if not forward or (at_s > forward[-1][1] and quarters > forward[-1][0]):
            forward.append((quarters, at_s))
    return forward


def _pairs(own: Anchors, other: Anchors) -> list[list[float]]:
    """The take's seconds and the other's at the same places, where both have them."""
    if len(other) < 2:
        return []
    quarters, seconds = np.array(other, dtype=float).T
    return [[round(at_s, 3), round(float(np.interp(q, quarters, seconds)), 3)] for q, at_s in own if quarters[0] <= q <= quarters[-1]]


def _earlier(take: Take, music: Expectation) -> Sequence[tuple[str, str, Anchors]]:
    before = (t for t in reversed(takes_of_task(take)) if t.number < take.number)
    earlier = next((t for t in before if t.is_submitted and t.playback and t.state == TakeState.ANALYSED), None)
    if earlier is None:
        return []
    shifted = [(quarters, at_s + earlier.playback_delay_s) for quarters, at_s in anchors_of(earlier, music)]
    return [(str(earlier), reverse("takes:sound", args=[earlier.pk]), shifted)]


def _references(passage: Passage) -> list[tuple[str, str, Anchors]]:
    return [
        (reference.title, reverse("library:reference", args=[reference.pk]), [(q, s) for q, s in (reference.laid or {})["anchors"]])
        for reference in references_in_time(passage).order_by("pk")
    ]


def _model(take: Take, passage: Passage, music: Expectation) -> list[tuple[str, str, Anchors]]:
    """The rendered model that is nearest to the tempo of the take, if there is one."""
    asked = take.targets.tempo_qpm
    models = ModelSound.objects.filter(passage=passage, of_part=0, naming="", count_off=0).exclude(sound="")
    sound = min(models, key=lambda model: abs(model.tempo_qpm - asked), default=None)
    if sound is None or not music.bars:
        return []
    start_s = model_start_s(music, sound.tempo_qpm, 0, music.bars[0].beat_quarters)
    at = [(note.onset_quarters, start_s + note.onset_quarters * 60.0 / sound.tempo_qpm) for note in music.notes]
    return [(worded("The model"), reverse("library:model_sound", args=[sound.pk]), sorted(set(at)))]
