"""The fitted models: what a forest adds up to, and what the shipped one makes of clear cases."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase

from didactor.core.hearing.presence import FEATURES, MODEL, Forest, Model

#: Two trees: the first looks at the second number and then at the first, the other is a single leaf.
TREES = {
    "features": ["a", "b"],
    "bias": 0.5,
    "depth": 2,
    "feature": [[1, 0, 0, 0, 0], [0, 0, 0, 0, 0]],
    "threshold": [[1.0, 5.0, 0.0, 0.0, 0.0], [0.0] * 5],
    "left": [[1, 3, 2, 3, 4], [0, 0, 0, 0, 0]],
    "right": [[2, 4, 2, 3, 4], [0, 0, 0, 0, 0]],
    "value": [[0.0, 0.0, 8.0, 1.0, 2.0], [0.25, 0, 0, 0, 0]],
}


class ForestTests(SimpleTestCase):
    def forest(self, names: tuple[str, ...] = ("a", "b")) -> Forest:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name) / "forest.json"
        path.write_text(json.dumps(TREES))
        return Forest(path=path, names=names)

    def test_each_row_walks_down_each_tree_and_the_leaves_add_up(self):
        rows = np.array([[5.0, 1.0], [5.1, 1.0], [0.0, 1.1], [9.0, -3.0]])
        self.assertEqual(self.forest().log_odds(rows).tolist(), [1.75, 2.75, 8.75, 2.75])
        self.assertEqual(self.forest().log_odds(np.zeros((0, 2))).tolist(), [])

    def test_models_fitted_to_other_features_are_refused(self):
        with self.assertRaisesMessage(ValueError, "run bench/fit_presence"):
            self.forest(("a", "c")).log_odds(np.zeros((1, 2)))
        with self.assertRaisesMessage(ValueError, "run bench/fit_presence"):
            Model(path=MODEL.path, names=("onset",)).log_odds(np.zeros((1, 1)))


class StruckKeyTests(SimpleTestCase):
    def row(self, **more: float) -> np.ndarray:
        """A key of the middle, with what a take has for it where nothing is struck."""
        silent = {"onset": -4.0, "sounding": -3.5, "sounding_before": -3.5, "take_onset": 2.0, "take_sounding": 1.5, "company": 1.0}
        return np.array([{**dict.fromkeys(FEATURES, 0.0), **silent, **more}[name] for name in FEATURES])

    def test_a_key_that_begins_to_sound_was_struck_and_a_silent_one_was_not(self):
        struck = self.row(onset=2.5, sounding=2.0, gain=0.8, rise=0.6, distinct_rise=0.6, level=0.8)
        odds = MODEL.log_odds(np.stack([struck, self.row()]))
        self.assertGreater(odds[0], 4.0)
        self.assertLess(odds[1], -4.0)

    def test_a_key_that_only_sounds_on_was_not_struck_again(self):
        self.assertLess(MODEL.log_odds(self.row(sounding=1.5, sounding_before=1.5, level=0.6)[None])[0], 0.0)

    def test_the_odds_of_a_key_do_not_depend_on_what_is_asked_beside_it(self):
        rows = np.random.default_rng(1).normal(0, 2, (40, len(FEATURES)))
        alone = np.concatenate([MODEL.log_odds(row[None]) for row in rows])
        np.testing.assert_allclose(MODEL.log_odds(rows), alone)
