"""One recording or two: by the timing of the moments that both have."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase

from didactor.core.comparing.same_recording import same_recording

MOMENTS = [(str(1 + k // 4), 1, float(k % 4)) for k in range(32)]
QUARTERS = {moment: float(k) for k, moment in enumerate(MOMENTS)}


def playing(seed: int, scatter_s: float = 0.02) -> dict:
    noise = np.random.default_rng(seed).normal(0, scatter_s, len(MOMENTS))
    return {moment: 1.0 + 0.7 * k + float(noise[k]) for k, moment in enumerate(MOMENTS)}


def heard_again(one: dict, shift_s: float = 0.0, speed: float = 1.0, ear_s: float = 0.001, only: slice = slice(None)) -> dict:
    error = np.random.default_rng(5).normal(0, ear_s, len(one))
    return {m: (at + float(error[k])) * speed + shift_s for k, (m, at) in enumerate(one.items()) if m in MOMENTS[only]}


class SameRecordingTests(SimpleTestCase):
    def test_another_start_a_slightly_other_speed_and_a_cut_change_nothing(self):
        one = playing(1)
        for other in (heard_again(one, 3.0), heard_again(one, -0.5, 1.005), heard_again(one, only=slice(6, 28))):
            self.assertIs(same_recording(one, other, QUARTERS), True)

    def test_the_same_player_twice_is_two(self):
        for seed in range(2, 12):
            self.assertIs(same_recording(playing(1), playing(seed), QUARTERS), False)
        self.assertIs(same_recording(playing(1, 0.006), playing(2, 0.006), QUARTERS), False)

    def test_the_more_even_the_playing_the_nearer_two_must_lie(self):
        even = playing(1, 0.006)
        self.assertIs(same_recording(even, heard_again(even, ear_s=0.0004), QUARTERS), True)
        self.assertIs(same_recording(even, heard_again(even, ear_s=0.003), QUARTERS), False, "as near as two takes of an even player")
        free = playing(1, 0.03)
        self.assertIs(same_recording(free, heard_again(free, ear_s=0.003), QUARTERS), True, "a telephone")

    def test_a_few_moments_heard_elsewhere_do_not_matter(self):
        one = playing(1)
        other = heard_again(one)
        for moment in MOMENTS[3:9]:
            other[moment] += 0.4
        self.assertIs(same_recording(one, other, QUARTERS), True)

    def test_too_little_says_nothing(self):
        one = playing(1)
        self.assertIsNone(same_recording(one, heard_again(one, only=slice(0, 15)), QUARTERS))
        self.assertIs(same_recording(one, heard_again(one, only=slice(0, 16)), QUARTERS), True)
        self.assertIsNone(same_recording({}, {}, {}))

    def test_a_machine_plays_the_same_every_time_and_nobody_is_accused(self):
        self.assertIsNone(same_recording(playing(1, 0.001), playing(2, 0.001), QUARTERS))

    def test_much_faster_is_not_the_same(self):
        one = playing(1)
        self.assertIs(same_recording(one, heard_again(one, speed=1.05), QUARTERS), False)
