"""What nobody expects of a take, and what some take will bring all the same."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase

from didactor.core.analyse import Analysis, analyse
from didactor.core.errors import PassageError
from didactor.core.hearing.hearing import Status
from didactor.core.judging.targets import Targets
from didactor.core.sound.recording import RATE_HZ, Recording
from tests.music import expectation, played

UP_AND_DOWN = "C5:q D5:q E5:q F5:q | G5:q F5:q E5:q D5:q | C5:w"


def heard(samples: np.ndarray, tempo: float = 92.0, text: str | None = None, **line: object) -> Analysis:
    expected = expectation(text, **line) if text else expectation()
    return analyse(Recording(samples=np.asarray(samples, dtype=np.float32)), expected, Targets(tempo_qpm=tempo, instrument="clarinet"))


def right(analysis: Analysis) -> float:
    return float(np.mean([n.status is Status.CORRECT for n in analysis.evidence.notes]))


class ExtremeTests(SimpleTestCase):
    def test_one_note_alone(self):
        analysis = heard(played(text="A4:w").samples, text="A4:w")
        self.assertEqual((right(analysis), analysis.findings), (1.0, ()))
        self.assertIsNone(analysis.evidence.tempo.played_qpm)

    def test_bars_of_rests_cannot_be_assigned(self):
        with self.assertRaisesMessage(PassageError, "not a single note"):
            expectation("r:w | r:w")

    def test_very_slow_and_very_fast(self):
        for tempo in (30.0, 240.0):
            analysis = heard(played(tempo=tempo).samples, tempo)
            self.assertEqual((right(analysis), analysis.findings), (1.0, ()), tempo)
            self.assertAlmostEqual(analysis.evidence.tempo.played_qpm, tempo, delta=0.01 * tempo)

    def test_half_and_double_tempo_are_one_remark(self):
        for tempo, words in ((46.0, "50 % below"), (184.0, "100 % above")):
            [finding] = heard(played(tempo=tempo).samples).findings
            self.assertIn(words, finding.text)

    def test_odd_and_compound_metres(self):
        for beats, text in (
            (5, "C5:e D5:e E5:e F5:q | G5:q F5:q E5:e | D5:e E5:e D5:e C5:q"),
            (12, "C5:q D5:e E5:q F5:e G5:q. E5:q. | F5:w."),
        ):
            line = {"beats": beats, "beat_type": 8, "fifths": 0}
            samples = played_line(text, **line)
            analysis = heard(samples, text=text, **line)
            self.assertEqual((right(analysis), analysis.findings), (1.0, ()), beats)

    def test_played_twice_is_no_breaking_off(self):
        both = np.concatenate((played().samples, played(seed=8).samples))
        [finding] = heard(both).findings
        self.assertEqual((finding.code, "once more" in finding.text), ("flow.restart", True))

    def test_a_take_that_begins_before_the_recording(self):
        analysis = heard(np.asarray(played().samples)[3 * RATE_HZ :])
        self.assertIn("begins_late", {p.code for p in analysis.quality.problems})
        self.assertEqual([f.code for f in analysis.findings], ["flow.unplayed"])

    def test_two_people_at_once_are_one_remark(self):
        other = np.asarray(played(instrument="flute", text=UP_AND_DOWN + " | E5:e G5:e " * 12, tempo=120.0, seed=5).samples)
        own = np.asarray(played().samples)
        size = min(len(own), len(other))
        codes = [f.code for f in heard(own[:size] + 0.9 * other[:size]).findings]
        self.assertLessEqual(codes.count("notes.extra"), 7)

    def test_two_minutes_of_silence_at_the_end_cost_no_remark(self):
        padded = np.concatenate((played().samples, np.random.default_rng(1).normal(0, 3e-4, 120 * RATE_HZ).astype(np.float32)))
        analysis = heard(padded)
        self.assertEqual((right(analysis), analysis.findings), (1.0, ()))


def played_line(text: str, **line: object) -> np.ndarray:
    import soxr

    from didactor.core.instruments import BY_SLUG
    from didactor.core.sound.player.take import simulate

    take = simulate(expectation(text, **line), BY_SLUG["clarinet"], 92.0, room="bedroom", seed=3)
    return soxr.resample(take.samples, 44_100, RATE_HZ)
