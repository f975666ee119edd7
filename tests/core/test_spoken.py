"""Names said in time: the tempo and the pauses are heard; nobody is told that a name was late or wrong."""

from __future__ import annotations

from typing import Any

import numpy as np
import soxr
from django.test import SimpleTestCase

from didactor.core.analyse import Analysis, analyse
from didactor.core.hearing.hearing import Status
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.targets import Targets
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ, Recording
from tests.music import TUNE, expectation

#: Speech is looser than playing.
LOOSE = Style(scatter_ms=28.0, wander_percent=1.2)


def said(*faults: dict[str, Any], target: float = 72.0, seed: int = 3, room: str = "bedroom", stage: str = "at_tempo") -> Analysis:
    expected = expectation(TUNE)
    take = simulate(expected, BY_SLUG["flute"], 72.0, faults=list(faults), style=LOOSE, source="own", room=room, seed=seed, manner="say")
    samples = soxr.resample(take.samples, SYNTH_RATE_HZ, RATE_HZ).astype(np.float32)
    return analyse(Recording(samples=samples), expected, Targets(tempo_qpm=target, instrument="flute", step="say", stage=stage))


class SpokenTests(SimpleTestCase):
    def test_names_in_time_are_left_alone(self):
        for seed, room in ((1, "dry"), (2, "bedroom"), (3, "hall")):
            analysis = said(seed=seed, room=room)
            self.assertEqual([f.code for f in analysis.findings], [], (seed, room))
            self.assertAlmostEqual(analysis.evidence.tempo.played_qpm, 72.0, delta=1.0)
            self.assertEqual({n.status for n in analysis.evidence.notes}, {Status.UNCERTAIN})
            self.assertTrue(all(n.early_late_ms is None for n in analysis.evidence.notes))

    def test_a_pause_is_named_with_its_place_and_size(self):
        pause = {"kind": "hesitation", "bar": "5", "beat": 0.0, "beats": 2.0}
        [finding] = said(pause).findings
        self.assertEqual((finding.code, finding.bar), ("flow.hesitation", "5"))
        self.assertAlmostEqual(finding.size, 2 * 60 / 72, delta=0.25)
        # While reading for the first time pauses are no fault.
        self.assertEqual(said(pause, stage="first_reading").findings, ())

    def test_too_slow_for_the_target(self):
        [finding] = said(target=90.0).findings
        self.assertEqual(finding.code, "tempo.off_target")
        self.assertIn("below the target", finding.text)

    def test_no_voice_is_told_as_such(self):
        samples = np.random.default_rng(1).normal(0, 0.002, 8 * RATE_HZ).astype(np.float32)
        for at in (2.0, 4.5):
            samples[int(at * RATE_HZ) : int(at * RATE_HZ) + 3000] += np.float32(0.3) * np.sin(np.arange(3000) / 9).astype(np.float32)
        analysis = analyse(Recording(samples=samples), expectation(TUNE), Targets(tempo_qpm=72, instrument="flute", step="say"))
        self.assertIsNone(analysis.evidence)
        self.assertIn("No voice can be heard", " ".join(p.text for p in analysis.quality.problems))
