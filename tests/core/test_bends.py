"""A player's own time: what bends is late nowhere, what is late is late against past and future."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase

from didactor.core.judging.bends import displacements

QUARTERS = np.arange(48, dtype=float) * 0.5


def played(tempo: np.ndarray, seed: int = 0, scatter_s: float = 0.006) -> np.ndarray:
    """Times of eighths at a tempo for each of them, quarters a minute."""
    times = np.concatenate(([0.0], np.cumsum(0.5 * 60 / tempo[:-1])))
    return times + np.random.default_rng(seed).normal(0, scatter_s, len(times))


def most(times: np.ndarray) -> float:
    return float(np.abs(displacements(QUARTERS, times, 0.6).away_s).max())


class DisplacementTests(SimpleTestCase):
    def test_a_single_late_or_early_moment_is_told_with_its_size(self):
        for shift in (0.12, -0.12):
            times = played(np.full(48, 100.0))
            times[20] += shift
            found = displacements(QUARTERS, times, 0.6)
            away, chance = found.away_s, found.chance_s
            self.assertEqual(int(np.abs(away).argmax()), 20)
            self.assertAlmostEqual(away[20], shift, delta=0.03)
            self.assertLess(np.abs(np.delete(away, 20)).max(), 0.03)
            self.assertLess(chance, 0.01)

    def test_what_bends_is_late_nowhere(self):
        steady = np.full(48, 100.0)
        broadening = steady.copy()
        broadening[24:32] = np.linspace(95, 63, 8)
        breath = steady.copy()
        breath[31] = 45
        drifting = np.linspace(90, 115, 48)
        waves = 100 * (1 + 0.1 * np.sin(np.arange(48) / 6))
        for tempo in (broadening, breath, drifting, waves):
            self.assertLess(max(most(played(tempo, seed)) for seed in range(8)), 0.055)

    def test_a_late_moment_within_a_bend_is_still_told(self):
        tempo = 100 * (1 + 0.1 * np.sin(np.arange(48) / 6))
        times = played(tempo)
        times[21] += 0.15
        away = displacements(QUARTERS, times, 0.6).away_s
        self.assertEqual(int(np.abs(away).argmax()), 21)
        self.assertGreater(away[21], 0.09)

    def test_a_moment_far_from_all_others_or_at_an_end_is_due_at_an_unsure_time(self):
        near = displacements(QUARTERS, played(np.full(48, 100.0)), 0.6).unsure_s
        self.assertGreater(min(near[0], near[-1]), 1.2 * np.median(near[1:-1]))
        self.assertLess(near.max(), 0.06)
        apart = np.concatenate(([0.0], 6 + QUARTERS, [36.0]))
        far = displacements(apart, 0.6 * apart, 0.6).unsure_s
        self.assertGreater(min(far[0], far[-1]), 0.15)
        self.assertLess(far[1:-1].max(), 0.06)

    def test_chance_is_measured_and_too_few_moments_say_nothing(self):
        loose = displacements(QUARTERS, played(np.full(48, 100.0), 3, 0.03), 0.6).chance_s
        self.assertGreater(loose, 2 * displacements(QUARTERS, played(np.full(48, 100.0), 3, 0.006), 0.6).chance_s)
        self.assertEqual(displacements(np.array([0.0, 1.0]), np.array([0.0, 0.9]), 0.6).away_s.tolist(), [0.0, 0.0])
