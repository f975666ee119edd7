"""Hearing one take: from its file to a stored result."""

from __future__ import annotations

import time

from django.core.files.base import ContentFile

from didactor.core.analyse import analyse
from didactor.core.formats.analysis_json import result_of
from didactor.core.formats.glance import summary_of
from didactor.core.judging.targets import Targets
from didactor.core.sound.backing import Backing
from didactor.core.sound.recording import open_recording, open_with_copy
from didactor.library.models import ModelSound
from didactor.library.notation import expectation_of
from didactor.takes.models import Analysis, Take, TakeState


def hear_take(take: Take) -> None:
    """Make the playback copy, hear the take against what it was asked for, and keep the result. Raises ``CoreError``."""
    started = time.monotonic()
    _step(take, "listening")
    with take.original.open("rb") as source:
        recording, copy = open_with_copy(source)
    if not take.playback:
        take.playback.save(f"{take.pk}.mp4", ContentFile(copy.body), save=False)
        take.playback_delay_s, take.duration_s, take.peaks = copy.delay_s, copy.duration_s, list(copy.peaks)
        take.save(update_fields=["playback", "playback_delay_s", "duration_s", "peaks"])
    basis = take.basis
    if not basis.get("judged", True):
        return settle(take, TakeState.ANALYSED)  # an answer by playing: there is nothing to compare it with
    expectation = expectation_of(revision_id=basis["revision_id"], part=basis["part"], bars=basis["bars"], order=basis["order"])
    targets = Targets.from_json(basis["targets"])
    heard = analyse(recording, expectation, targets, progress=lambda step: _step(take, step), backing=_backing(basis.get("backing")))
    result = result_of(heard)
    Analysis.objects.get_or_create(
        take=take,
        engine_version=result.engine_version,
        defaults={
            "parameters": basis["targets"],
            "result": result.to_json(),
            "summary": summary_of(result),
            "seconds": time.monotonic() - started,
        },
    )
    if result.is_usable:
        settle(take, TakeState.ANALYSED)
    else:
        settle(take, TakeState.UNUSABLE, trouble=result.quality.problems[-1].text)


def _backing(played: dict[str, float] | None) -> Backing | None:
    """The accompaniment that the recorder played, as it was sent to the loudspeaker."""
    sound = ModelSound.objects.filter(pk=played["sound"]).exclude(sound="").first() if played else None
    if sound is None or played is None:
        return None
    with sound.sound.open("rb") as source:
        return Backing(samples=open_recording(source).samples, at_s=played["at_s"])


def _step(take: Take, step: str) -> None:
    """Where the work stands, for the page that waits for it."""
    Take.objects.filter(pk=take.pk).update(state=TakeState.ANALYSING, step=step)


def settle(take: Take, state: TakeState, trouble: str = "") -> None:
    """The work on a take is over."""
    Take.objects.filter(pk=take.pk).update(state=state, step="", trouble=trouble[:300])
