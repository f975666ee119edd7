"""Steps and their ears: which fits a passage, which a passage cannot have."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.analyse import analyse
from didactor.core.errors import PassageError
from didactor.core.hearing import chords, many_voices, one_voice, rhythm, spoken, strokes
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.categories import CATEGORIES
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import without_notation
from didactor.core.steps import all_ears, all_steps, ear_of, goals, on_the_way, proposed_ear, steps_to
from didactor.core.steps.registry import Step, register
from tests.music import TUNE, expectation, played

CHART = "x:q@C x:q x:q x:q | x:q@F x:q x:q x:q"
RHYTHM = "x:q x:e x:e x:q x:q | x:h x:h"


class StepTests(SimpleTestCase):
    def test_the_step_that_fits_is_proposed(self):
        for proposed, passage in (
            ("play", expectation(TUNE)),
            ("chords", expectation(CHART, fifths=0)),
            ("clap", expectation(RHYTHM, fifths=0)),
            ("pulse", without_notation(4, 4, 4)),
        ):
            self.assertEqual(proposed_ear(passage).slug, proposed)

    def test_a_passage_refuses_what_it_cannot_have(self):
        tune, chart, line = expectation(TUNE), expectation(CHART, fifths=0), without_notation(4, 4, 4)
        refused = {
            (ear.slug, name)
            for ear in all_ears()
            for name, passage in (("tune", tune), ("chart", chart), ("line", line))
            if ear.refuses(passage)
        }
        self.assertEqual(
            refused,
            {
                ("chords", "tune"),
                ("play", "chart"),
                ("say", "chart"),
                ("play", "line"),
                ("clap", "line"),
                ("chords", "line"),
                ("say", "line"),
            },
        )
        with self.assertRaisesMessage(PassageError, "chart of chords"):
            analyse(played(), chart, Targets(tempo_qpm=92.0, instrument="guitar"))

    def test_each_is_heard_by_its_method(self):
        tune, clarinet, drum = expectation(TUNE), BY_SLUG["clarinet"], BY_SLUG["claps"]
        two = expectation("C5:q E5:q G5:q E5:q", lower="C3:h G3:h", fifths=0)
        for slug, passage, instrument, method in (
            ("play", tune, clarinet, one_voice),
            ("play", two, BY_SLUG["piano"], many_voices),
            ("play", tune, drum, strokes),
            ("play", expectation(RHYTHM, fifths=0), clarinet, strokes),
            ("clap", tune, clarinet, strokes),
            ("chords", tune, clarinet, chords),
            ("pulse", tune, clarinet, rhythm),
            ("say", tune, clarinet, spoken),
        ):
            self.assertIs(ear_of(slug).listen(passage, instrument), method.hear, slug)

    def test_steps_come_in_order_under_the_title_of_their_place(self):
        self.assertEqual([s.slug for s in steps_to(["right", "clap", "count"], "play")], ["count", "clap", "right", "play"])
        self.assertEqual([s.title for s in steps_to(["clap"], "clap")], ["Clap or tap the rhythm"])
        self.assertEqual(on_the_way("clap").title, "Count and clap")
        self.assertIsNone(on_the_way("play"))
        self.assertEqual(goals()[0].slug, "play")

    def test_every_step_is_complete(self):
        for step in all_steps():
            self.assertTrue(step.title or step.before, step.slug)
            self.assertLessEqual(set(step.listen_for), set(CATEGORIES))
            if step.ear:
                ear_of(step.ear)
        with self.assertRaises(ValueError):
            register(Step(slug="play", ear=None, place=1, title="Again"))
