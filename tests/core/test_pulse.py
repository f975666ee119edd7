"""The pulse through onsets that are written here: late notes, hesitations, drift, joints."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase

from didactor.core.judging.pulse import Pulse, drift_percent_per_bar, read_pulse


def pulse(times: np.ndarray, quarters: np.ndarray | None = None, joints: np.ndarray | None = None) -> Pulse:
    quarters = np.arange(len(times), dtype=float) if quarters is None else quarters
    joints = np.zeros(len(times), dtype=bool) if joints is None else joints
    result = read_pulse(quarters, times, joints, np.ones(len(times)), 0.6)
    assert result is not None
    return result


class PulseTests(SimpleTestCase):
    steady = 1.0 + 0.6 * np.arange(24)

    def test_a_steady_take_has_no_residual(self):
        self.assertLess(np.abs(pulse(self.steady).residual_s).max(), 1e-6)

    def test_one_late_note_is_late_and_bends_nothing(self):
        times = self.steady.copy()
        times[10] += 0.15
        result = pulse(times)
        self.assertAlmostEqual(result.residual_s[10], 0.15, delta=0.012)
        self.assertLess(np.abs(np.delete(result.residual_s, 10)).max(), 0.02)
        self.assertFalse(result.hesitation.any())

    def test_what_follows_a_hesitation_is_late_as_well(self):
        times = self.steady.copy()
        times[12:] += 0.9
        result = pulse(times)
        self.assertEqual(np.flatnonzero(result.hesitation).tolist(), [12])
        self.assertAlmostEqual(result.pause_s[12], 0.9, delta=0.02)
        self.assertLess(np.abs(result.residual_s).max(), 0.02)
        self.assertAlmostEqual(result.seconds_between(), 0.6 * 23, delta=0.03)

    def test_a_slower_stretch_is_not_a_hesitation(self):
        steps = np.where(np.arange(23) < 12, 0.6, 0.72)
        result = pulse(np.concatenate(([1.0], 1.0 + np.cumsum(steps))))
        self.assertFalse(result.hesitation.any())

    def test_the_time_of_a_restart_is_no_pulse(self):
        joints = np.zeros(24, dtype=bool)
        joints[8] = True
        times = self.steady.copy()
        times[8:] += 4.0
        result = pulse(times, joints=joints)
        self.assertFalse(result.hesitation.any())
        self.assertLess(np.abs(result.residual_s).max(), 0.02)

    def test_drift_is_found_with_its_sign(self):
        for per_bar in (2.0, -2.0):
            period = 0.6 / (1 + per_bar / 100) ** (np.arange(40) / 4)
            result = pulse(np.concatenate(([0.0], np.cumsum(period))))
            drift, confidence = drift_percent_per_bar(result, 4.0)
            self.assertAlmostEqual(drift, per_bar, delta=0.35)
            self.assertGreater(confidence, 0.9)

    def test_scatter_alone_is_no_drift(self):
        times = self.steady + np.random.default_rng(4).normal(0, 0.015, 24)
        drift, _confidence = drift_percent_per_bar(pulse(times), 4.0)
        self.assertLess(abs(drift), 0.6)

    def test_too_few_onsets_have_no_pulse(self):
        self.assertIsNone(read_pulse(np.arange(3.0), np.arange(3.0), np.zeros(3, dtype=bool), np.ones(3), 0.6))
