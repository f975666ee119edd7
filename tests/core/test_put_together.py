"""Takes put together: bent to one tempo, equally loud, from left to right."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase

from didactor.core.analyse import analyse
from didactor.core.errors import CoreError
from didactor.core.judging.targets import Targets
from didactor.core.sound.level import loudness_lufs
from didactor.core.sound.recording import RATE_HZ, Recording
from didactor.core.sound.together import LEAD_S, LEVEL_LUFS, Voice, bent, map_of, mixed
from tests.music import TUNE, expectation, played

QUARTER_S = 60.0 / 90.0


def anchors(recording: Recording, tempo: float) -> list[tuple[float, float]]:
    """Quarters and seconds of the notes that were right."""
    heard = analyse(recording, expectation(TUNE), Targets(tempo_qpm=tempo, instrument="clarinet")).evidence
    found = {n.note.onset_quarters: n.onset_s for n in heard.notes if n.onset_s is not None and n.status.value == "correct"}
    return sorted(found.items())


class MapTests(SimpleTestCase):
    def test_every_moment_goes_to_its_place_in_the_tempo(self):
        places = map_of([(0, 1.0), (1, 1.5), (2, 2.4), (4, 3.0)], 0.5)
        self.assertEqual(places, [(1.0, LEAD_S), (1.5, LEAD_S + 0.5), (2.4, LEAD_S + 1.0), (3.0, LEAD_S + 2.0)])

    def test_moments_too_near_and_bends_too_far_are_left_out(self):
        close = [(0, 1.0), (1, 2.0), (1.05, 2.05), (2, 3.0), (3, 4.0)]
        self.assertEqual(len(map_of(close, 1.0)), 4)
        paused = [(0, 1.0), (1, 2.0), (2, 12.0), (3, 13.0), (4, 14.0)]
        self.assertEqual([target - LEAD_S for _, target in map_of(paused, 1.0)], [0, 1, 2, 3, 4], "a pause is pressed together")
        left_out = [(0, 1.0), (1, 2.0), (9, 2.5), (10, 12.0), (11, 13.0)]
        self.assertNotIn(2.5, [at for at, _ in map_of(left_out, 1.0)], "eight quarters in half a second are no playing")

    def test_too_few_moments_are_no_map(self):
        with self.assertRaises(CoreError):
            map_of([(0, 1.0), (1, 2.0), (2, 3.0)], 1.0)
        with self.assertRaises(CoreError):
            map_of([], 1.0)


class TogetherTests(SimpleTestCase):
    def test_two_players_of_different_tempi_come_to_one(self):
        late = []
        for tempo, seed in ((82.0, 31), (101.0, 32)):
            recording = played(tempo=tempo, seed=seed)
            made = bent(Voice(samples=np.asarray(recording.samples), anchors=anchors(recording, tempo)), RATE_HZ, QUARTER_S)
            late.append({q: at - LEAD_S - q * QUARTER_S for q, at in anchors(Recording(samples=made), 90.0)})
        both = sorted(set(late[0]) & set(late[1]))
        self.assertGreater(len(both), 25)
        apart = np.abs([late[0][q] - late[1][q] for q in both])
        self.assertLess(np.median(apart), 0.012)
        self.assertLess(np.percentile(apart, 95), 0.03)

    def test_equally_loud_from_left_to_right_and_never_clipped(self):
        time = np.arange(3 * RATE_HZ) / RATE_HZ
        tones = [(level * np.sin(2 * np.pi * hz * time)).astype(np.float32) for level, hz in ((0.02, 440), (0.8, 550), (0.2, 660))]
        out = mixed(tones, RATE_HZ)
        self.assertEqual(out.shape, (2, 3 * RATE_HZ))
        self.assertLessEqual(np.abs(out).max(), 0.9)
        level = [[float(np.abs(np.vdot(channel, np.exp(-2j * np.pi * hz * time)))) for hz in (440, 550, 660)] for channel in out]
        self.assertGreater(level[0][0], 2 * level[1][0], "the first to the left")
        self.assertAlmostEqual(level[0][1] / level[1][1], 1.0, delta=0.05)
        self.assertGreater(level[1][2], 2 * level[0][2], "the last to the right")
        power = [level[0][k] ** 2 + level[1][k] ** 2 for k in range(3)]
        self.assertLess(max(power) / min(power), 1.8)
        alone = mixed(tones[:1], RATE_HZ)
        self.assertAlmostEqual(loudness_lufs(alone[0] * 2**0.5, RATE_HZ), LEVEL_LUFS, delta=1.0)

    def test_silence_and_nothing_are_no_trouble(self):
        self.assertEqual(mixed([], RATE_HZ).shape, (2, 0))
        self.assertEqual(float(np.abs(mixed([np.zeros(RATE_HZ, np.float32)] * 2, RATE_HZ)).max()), 0.0)
