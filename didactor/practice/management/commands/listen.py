from __future__ import annotations

from typing import Any

import numpy as np
from django.conf import settings
from django.core.management.base import BaseCommand

from didactor.core.analyse import analyse
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import expect
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.write.as_musicxml import Line, write_musicxml
from didactor.core.sound.recording import RATE_HZ, Recording
from didactor.practice.live import listen


class Command(BaseCommand):
    """The ear for practising: processes that stay warm."""

    help = "Listen to attempts while they are played."

    def handle(self, *args: Any, **options: Any) -> None:
        listen(settings.LISTENING_PROCESSES, warm_up)


def warm_up() -> None:
    """Both ears once over a moment of sound: loading them takes seconds."""
    time_s = np.arange(2 * RATE_HZ) / RATE_HZ
    tone = (0.3 * np.sin(2 * np.pi * 440 * time_s) * np.exp(-3 * (time_s % 0.5))).astype(np.float32)
    expectation = expect(read(prepare(write_musicxml([Line(text="A4:q A4:q A4:q A4:q")]))).parts[0])
    for slug in ("flute", "piano"):
        analyse(Recording(samples=tone.copy()), expectation, Targets(tempo_qpm=120.0, instrument=BY_SLUG[slug].slug))
