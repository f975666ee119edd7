"""One test over all checks: each has its words, and silence or one note never breaks it."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.hearing.hearing import Hearing, NoteHeard, Status
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.categories import CATEGORIES
from didactor.core.judging.judge import judge
from didactor.core.judging.registry import Check, all_checks, check
from didactor.core.judging.targets import Targets
from tests.music import expectation


class RegistryTests(SimpleTestCase):
    def test_every_check_explains_itself(self):
        codes = [entry.code for entry in all_checks()]
        self.assertEqual(len(codes), len(set(codes)))
        self.assertGreaterEqual(len(codes), 13)
        for entry in all_checks():
            self.assertIsInstance(entry, Check)
            self.assertIn(entry.category, CATEGORIES)
            self.assertTrue(entry.title and entry.reference and entry.run.__doc__)

    def test_a_code_is_used_once(self):
        with self.assertRaisesMessage(ValueError, "two checks"):
            check(code=all_checks()[0].code, title="x", category="notes", unit=None, reference="x")(lambda evidence: [])

    def test_nothing_heard_gives_nothing_but_silence(self):
        for text in ("C4:w", "C4:q D4:q E4:q F4:q | G4:w"):
            expected = expectation(text, fifths=0)
            hearing = Hearing(
                notes=tuple(NoteHeard(status=Status.MISSED, confidence=0.8) for _ in expected.notes),
                extra=(),
                jumps=(),
                seconds_per_quarter=0.6,
                share_of_notes=0.0,
                share_of_sounds=0.0,
            )
            evidence = judge(hearing, expected, Targets(tempo_qpm=100.0), BY_SLUG["flute"])
            for entry in all_checks():
                self.assertEqual(list(entry.run(evidence)), [], entry.code)
