"""Patterns: named when faults gather on one kind of note, silent when they are scattered."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.hearing.hearing import Hearing, NoteHeard, Status
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.judge import judge
from didactor.core.judging.registry import run_checks
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation
from tests.music import expectation

#: Quarter notes up and down by step and by leap, eight bars of four.
WALK = " | ".join(["C4:q D4:q E4:q F4:q", "G4:q F4:q E4:q D4:q", "C4:q G4:q F4:q E4:q", "D4:q E4:q F4:q G4:q"] * 2)


def patterns(expected: Expectation, wrong: dict[int, int], late: dict[int, float] | None = None) -> dict[str, str]:
    """Pattern code to its sentence; ``wrong``: index to semitones off, ``late``: index to seconds."""
    late = late or {}
    hearing = Hearing(
        notes=tuple(
            NoteHeard(
                status=Status.WRONG_PITCH if i in wrong else Status.CORRECT,
                confidence=0.95,
                onset_s=1 + 0.6 * n.onset_quarters + late.get(i, 0.0),
                offset_s=1.5 + 0.6 * n.onset_quarters,
                heard_midi=n.sounding_midi + wrong.get(i, 0),
                timed=True,
            )
            for i, n in enumerate(expected.notes)
        ),
        extra=(),
        jumps=(),
        seconds_per_quarter=0.6,
        share_of_notes=1.0,
        share_of_sounds=1.0,
    )
    findings = run_checks(judge(hearing, expected, Targets(tempo_qpm=100.0), BY_SLUG["flute"]))
    return {f.code: f.text for f in findings if f.code.startswith("pattern.")}


class PatternTests(SimpleTestCase):
    def setUp(self):
        self.walk = expectation(WALK, fifths=0)
        self.up = [i for i in range(1, 32) if self.walk.notes[i].sounding_midi > self.walk.notes[i - 1].sounding_midi]

    def test_scattered_faults_make_no_pattern(self):
        self.assertEqual(patterns(self.walk, {2: 1, 9: -1, 19: 2, 28: -2}), {})

    def test_always_after_the_same_leap(self):
        fifths = [i for i in self.up if self.walk.notes[i].sounding_midi - self.walk.notes[i - 1].sounding_midi == 7]
        longer = expectation(f"{WALK} | {WALK}", fifths=0)
        found = patterns(longer, {i + shift: 1 for i in fifths for shift in (0, 32)})
        self.assertIn("after a fifth up", found["pattern.leap"])

    def test_always_on_the_way_up(self):
        steps = [i for i in self.up if i % 4 and self.walk.notes[i].sounding_midi - self.walk.notes[i - 1].sounding_midi < 5]
        longer = expectation(f"{WALK} | {WALK}", fifths=0)
        found = patterns(longer, dict.fromkeys(steps, -3) | {i + 32: -3 for i in steps[:4]})
        self.assertIn("on the way up", found["pattern.direction"])

    def test_always_late_on_the_last_beat(self):
        found = patterns(self.walk, {}, dict.fromkeys((3, 11, 19, 27), 0.13))
        self.assertIn("On the last beat time and again: 4 of 4", found["pattern.last_beat"])

    def test_thirds_played_as_seconds(self):
        thirds = expectation("C4:q E4:q G4:q E4:q | C4:q D4:q E4:q C4:q | E4:q G4:q F4:q E4:q | D4:q C4:q E4:q C4:q", fifths=0)
        self.assertIn("2 thirds sound as seconds", patterns(thirds, {1: -2, 9: -1})["pattern.skip_as_step"])
        self.assertNotIn("pattern.skip_as_step", patterns(thirds, {1: 1, 9: -1}))

    def test_the_same_note_of_a_repeated_bar_each_time(self):
        twice = expectation(WALK, order="1-4 1-4", fifths=0)
        self.assertIn("Bar 2, beat 3", patterns(twice, {6: 1, 22: 1})["pattern.same_bar"])
        self.assertEqual(patterns(twice, {6: 1}), {})
