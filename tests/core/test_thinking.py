"""Pauses before each bar, take after take."""

from __future__ import annotations

from dataclasses import replace

from django.test import SimpleTestCase
from lxml import etree

from didactor.core.analyse import analyse
from didactor.core.comparing.thinking import LARGEST, draw_thinking, thinking_in_words, thinking_times
from didactor.core.formats.analysis_json import result_of
from didactor.core.formats.result import Pause, PulseHeard, Result
from didactor.core.judging.targets import Targets
from tests.music import expectation, played


class ThinkingTests(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.heard = result_of(analyse(played(), expectation(), Targets(tempo_qpm=92.0, instrument="clarinet", stage="first_reading")))

    def result(self, **pauses: float) -> Result:
        made = tuple(
            Pause(bar=name[1:], pass_=1, beat=0.0, time_s=1.0, extra_quarters=1.0, extra_s=seconds) for name, seconds in pauses.items()
        )
        return replace(self.heard, pulse=PulseHeard(hesitations=made))

    def test_pauses_shrink_from_take_to_take(self):
        rows = thinking_times([("Take 1", self.result(b3=6.0, b5=8.4)), ("Take 2", self.result(b5=2.0))])
        self.assertEqual(thinking_in_words(rows), "Thinking time, take by take: 14 s, 2 s; the longest now in bar 5.")
        self.assertEqual(thinking_in_words(rows[:1]), "")
        self.assertEqual(thinking_in_words(thinking_times([("1", self.result()), ("2", self.result())])), "")

    def test_takes_that_could_not_be_heard_are_left_out_and_the_last_eight_are_shown(self):
        unheard = replace(self.heard, notes=None, pulse=None)
        self.assertEqual(thinking_times([("1", unheard)]), [])
        self.assertEqual([row.name for row in thinking_times([(str(k), self.result()) for k in range(10)])], [str(k) for k in range(2, 10)])

    def test_circles_grow_with_the_seconds_and_no_further(self):
        rows = thinking_times([("1", self.result(b1=0.5, b2=2.0, b3=60.0)), ("2", self.result())])
        drawing = etree.fromstring(draw_thinking(rows, ["1", "2", "3"]))
        radii = [float(circle.get("r")) for circle in drawing.iter("{*}circle")]
        self.assertEqual(radii, sorted(radii))
        self.assertEqual(radii[-1], LARGEST)
        self.assertEqual(len(radii), 3)
