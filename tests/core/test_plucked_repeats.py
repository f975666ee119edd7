"""The same string plucked again and again: it dies away in one octave and another, and is one sound each time."""

from __future__ import annotations

import soxr
from django.test import SimpleTestCase

from didactor.core.analyse import analyse
from didactor.core.formats.analysis_json import result_of
from didactor.core.formats.result import Result
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ, Recording
from tests.music import expectation

LINE = "A4:q A4:q A4:q A4:q A4:q | C5:q C5:q C5:q C5:q C5:q | E4:q E4:q E4:q E4:q E4:q"


class PluckedRepeatsTests(SimpleTestCase):
    def heard(self, *faults: dict[str, object], instrument: str = "ukulele", seed: int = 2) -> Result:
        expected = expectation(LINE, fifths=0, beats=5)
        style = Style(scatter_ms=8.0, wander_percent=0.6)
        take = simulate(expected, BY_SLUG[instrument], 56.0, style=style, room="bedroom", seed=seed, faults=list(faults))
        recording = Recording(samples=soxr.resample(take.samples, SYNTH_RATE_HZ, RATE_HZ).astype("float32"))
        return result_of(analyse(recording, expected, Targets(tempo_qpm=56.0, instrument=instrument)))

    def test_five_alike_in_a_bar_are_five(self) -> None:
        for instrument in ("ukulele", "guitar"):
            for seed in (1, 2):
                heard = self.heard(instrument=instrument, seed=seed)
                self.assertEqual(([], []), ([f.code for f in heard.findings or ()], list(heard.extra or ())), (instrument, seed))

    def test_a_wrong_one_among_them_is_told_and_nothing_else(self) -> None:
        heard = self.heard({"kind": "wrong", "note": 7, "semitones": 2})
        self.assertEqual(["notes.wrong"], [f.code for f in heard.findings or ()])
