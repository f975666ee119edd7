"""What became of the bars of the take before."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.comparing.mended import since_last
from didactor.core.formats.glance import BarCell


def strip(*worst: str) -> list[BarCell]:
    return [BarCell(number=str(k), worst=value, says=()) for k, value in enumerate(worst, start=1)]


class MendedTests(SimpleTestCase):
    def test_mended_still_and_new(self):
        found = since_last(strip("notes", "rhythm", "", "", "flow"), strip("", "notes", "tempo", "", ""))
        self.assertEqual((found.mended, found.still, found.new), (("1", "5"), ("2",), ("3",)))
        self.assertEqual(found.says, "Since the last take: bars 1 and 5 mended; bar 2 still; bar 3 new.")

    def test_what_could_not_be_judged_is_neither(self):
        found = since_last(strip("unjudged", "notes", "notes"), strip("notes", "unjudged", ""))
        self.assertEqual((found.mended, found.still, found.new), (("3",), (), ()))

    def test_nothing_to_mend_before_is_nothing_to_say(self):
        self.assertEqual(since_last(strip("", ""), strip("", "notes")).says, "")
        self.assertEqual(since_last([], strip("notes")).says, "", "a bar that was not in the take before")
