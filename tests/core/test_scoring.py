"""The benchmark's own judgement: it must not flatter, and must not blame the ear for what nobody can hear."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path

import soxr
from django.test import SimpleTestCase

sys.path.insert(0, str(Path(__file__).resolve().parents[2] / "bench"))

from alike_skips import skip_as_claimed
from scoring import score
from takes import Scenario, Take

from didactor.core.analyse import analyse
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.registry import Finding
from didactor.core.judging.targets import Targets
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.core.sound.recording import RATE_HZ, Recording
from tests.music import expectation

#: Bars 2 and 3 are alike.
ALIKE = "C4:q E4:q G4:q E4:q | D4:h F4:h | D4:h F4:h | C4:q E4:q G4:q C5:q | C5:w"
FALSE = Finding(code="notes.wrong", category="notes", text="Bar 4: a claim.", confidence=0.9, severity=5.0, bar="4", note_ids=("nowhere",))


def take(text: str, *faults: dict[str, object]) -> Take:
    expected = expectation(text, fifths=0)
    made = simulate(
        expected, BY_SLUG["clarinet"], 92.0, faults=list(faults), style=Style(scatter_ms=6.0), source="additive", room="bedroom", seed=2
    )
    scenario = Scenario(
        set="test",
        voices="one",
        condition="test",
        instrument="clarinet",
        source="additive",
        room="bedroom",
        seed=2,
        manner="test",
        faults="mixed" if faults else "",
    )
    return Take(
        scenario=scenario,
        samples=soxr.resample(made.samples, SYNTH_RATE_HZ, RATE_HZ).astype("float32"),
        truth=made.truth,
        expectation=expected,
        targets=Targets(tempo_qpm=92.0, instrument="clarinet"),
    )


class ScoringTests(SimpleTestCase):
    def test_what_was_planted_is_found_missed_or_made_up(self):
        made = take(ALIKE, {"kind": "wrong", "note": 9, "semitones": 2})
        heard = analyse(Recording(samples=made.samples), made.expectation, made.targets)
        found = score(made, heard)
        self.assertEqual((found.planted["notes.wrong"], found.found["notes.wrong"], found.false_findings), (1, 1, 0))
        self.assertEqual((found.faulty, found.accused, found.rightly), (1, 1, 1))
        silent = score(made, replace(heard, findings=()))
        self.assertEqual((silent.planted["notes.wrong"], silent.found["notes.wrong"], silent.claimed["notes.wrong"]), (1, 0, 0))
        bold = score(made, replace(heard, findings=(*heard.findings, FALSE)))
        self.assertEqual((bold.found["notes.wrong"], bold.claimed["notes.wrong"], bold.false_findings), (1, 2, 1))

    def test_one_false_finding_spoils_a_clean_take(self):
        made = take(ALIKE)
        heard = analyse(Recording(samples=made.samples), made.expectation, made.targets)
        self.assertEqual((score(made, heard).spotless, score(made, heard).right), (1, 13))
        self.assertEqual(score(made, replace(heard, findings=(FALSE,))).spotless, 0)
        refused = score(made, replace(heard, evidence=None))
        self.assertEqual((refused.refused, refused.false_findings, refused.judged), (1, 1, 0))

    def test_any_reading_of_a_skip_that_sounds_the_same_is_true(self):
        made = take(ALIKE, {"kind": "skip", "note": 4, "bars": 1})
        planted, other, wrong = {("2", 1)}, {("3", 1)}, {("4", 1)}
        first, same = skip_as_claimed(made, planted)
        self.assertEqual((first, set(same.items()) <= {(k, k) for k in same}), (("2", 1), True))
        first, renamed = skip_as_claimed(made, other)
        self.assertEqual(first, ("3", 1))
        notes = made.expectation.notes
        self.assertEqual(renamed[notes[6].id, 1], (notes[4].id, 1))
        self.assertIsNone(skip_as_claimed(made, wrong))
        self.assertIsNone(skip_as_claimed(take(ALIKE), planted))
        heard = analyse(Recording(samples=made.samples), made.expectation, made.targets)
        result = score(made, heard)
        self.assertEqual((result.found["flow.skipped"], result.right, result.false_findings), (1, result.judged, 0))
