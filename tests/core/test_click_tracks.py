"""Clicks under a take: on its own beat, and on the one that was asked for."""

from __future__ import annotations

from dataclasses import replace

from django.test import SimpleTestCase

from didactor.core.analyse import analyse
from didactor.core.comparing.click_tracks import click_tracks
from didactor.core.formats.analysis_json import result_of
from didactor.core.judging.targets import Targets
from tests.music import TUNE, expectation, played


class ClickTests(SimpleTestCase):
    def setUp(self):
        self.music = expectation(TUNE)
        self.result = result_of(analyse(played(tempo=84.0), self.music, Targets(tempo_qpm=92.0, instrument="clarinet")))

    def test_the_player_s_beat_and_the_one_asked_for_begin_together(self):
        tracks = click_tracks(self.result, self.music)
        own, target = tracks["own"], tracks["target"]
        self.assertEqual((own[0], len(own)), (target[0], len(target)))
        beats = len(own) - 1
        self.assertAlmostEqual((own[-1][0] - own[0][0]) / beats, 60 / 84, delta=0.01)
        self.assertAlmostEqual((target[-1][0] - target[0][0]) / beats, 60 / 92, delta=0.001)
        self.assertEqual([strong for _, strong in own].count(True), len({b.number for b in self.music.bars if b.number != "0"}))

    def test_nothing_where_no_pulse_was_heard(self):
        self.assertEqual(click_tracks(replace(self.result, tempo=None), self.music), {})
        tempo = replace(self.result.tempo, curve=self.result.tempo.curve[:1])
        self.assertEqual(click_tracks(replace(self.result, tempo=tempo), self.music), {})
