"""What the notation allows is no fault, whichever ear heard it."""

from __future__ import annotations

from dataclasses import replace

from django.test import SimpleTestCase

from didactor.core.hearing.hearing import ExtraNote, Hearing, NoteHeard, Status
from didactor.core.instruments import BY_SLUG
from didactor.core.judging.judge import judge
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation
from tests.music import TUNE, expectation


def hearing(expected: Expectation, *extra: ExtraNote, **changed: NoteHeard) -> Hearing:
    """All notes right at 60 quarters a minute, but for some by index (``n3``)."""
    notes = []
    for index, note in enumerate(expected.notes):
        onset = 1.0 + note.onset_quarters
        right = NoteHeard(
            status=Status.CORRECT, confidence=0.9, onset_s=onset, offset_s=onset + 0.5, heard_midi=note.sounding_midi, timed=True
        )
        notes.append(changed.get(f"n{index}", right))
    return Hearing(notes=tuple(notes), extra=extra, jumps=(), seconds_per_quarter=1.0, share_of_notes=1.0, share_of_sounds=1.0)


def judged(expected: Expectation, heard: Hearing):
    return judge(heard, expected, Targets(tempo_qpm=60.0, instrument="clarinet"), BY_SLUG["clarinet"])


def marked(*signs: str, index: int = 6, **changes) -> Expectation:
    expected = expectation(TUNE)
    notes = list(expected.notes)
    notes[index] = replace(notes[index], articulations=signs, **changes)
    return replace(expected, notes=tuple(notes))


class AllowanceTests(SimpleTestCase):
    def extra(self, expected: Expectation, semitones: int, away_quarters: float = 0.3) -> ExtraNote:
        note = expected.notes[6]
        return ExtraNote(onset_s=1.0, midi=note.sounding_midi + semitones, bar=note.bar, pass_=note.pass_, beat=note.beat + away_quarters)

    def test_the_sounds_of_an_ornament_are_not_extra(self):
        trilled, plain = marked("trill-mark"), marked("accent")
        for semitones, left in ((2, 0), (3, 0), (4, 1)):
            extra = self.extra(trilled, semitones)
            self.assertEqual(len(judged(trilled, hearing(trilled, extra)).extra), left, semitones)
            self.assertEqual(len(judged(plain, hearing(plain, extra)).extra), 1)
        late = self.extra(trilled, 2, away_quarters=trilled.notes[6].duration_quarters + 0.3)
        self.assertEqual(len(judged(trilled, hearing(trilled, late)).extra), 1)

    def test_an_ornamented_note_heard_as_its_neighbour_is_not_wrong(self):
        trilled = marked("trill-mark")
        for semitones, status in ((1, Status.UNCERTAIN), (3, Status.UNCERTAIN), (4, Status.WRONG_PITCH)):
            wrong = NoteHeard(status=Status.WRONG_PITCH, confidence=0.9, onset_s=7.0, heard_midi=trilled.notes[6].sounding_midi + semitones)
            self.assertIs(judged(trilled, hearing(trilled, n6=wrong)).notes[6].status, status)

    def test_a_grace_note_heard_by_itself_is_not_extra(self):
        expected = marked(grace=True)
        grace = self.extra(expected, 0, away_quarters=-0.2)
        other = self.extra(expected, 1, away_quarters=-0.2)
        self.assertEqual(judged(expected, hearing(expected, grace, other)).extra, (other,))

    def test_an_optional_note_may_be_left_out(self):
        expected = marked(optional=True)
        missed = NoteHeard(status=Status.MISSED, confidence=0.9)
        self.assertIs(judged(expected, hearing(expected, n6=missed)).notes[6].status, Status.UNCERTAIN)
        self.assertIs(judged(expected, hearing(expected, n7=missed)).notes[7].status, Status.MISSED)

    def test_a_hold_is_no_hesitation(self):
        for signs, pauses in ((("fermata",), 0), ((), 1)):
            expected = marked(*signs)
            heard = hearing(expected)
            notes = [n if i <= 6 else replace(n, onset_s=n.onset_s + 2.0, offset_s=n.offset_s + 2.0) for i, n in enumerate(heard.notes)]
            evidence = judged(expected, replace(heard, notes=tuple(notes)))
            self.assertEqual(len(evidence.hesitations), pauses)
            self.assertAlmostEqual(evidence.tempo.played_qpm, 60.0, delta=0.1)

    def test_a_broken_chord_is_not_early_or_late(self):
        expected = marked("arpeggiate")
        evidence = judged(expected, hearing(expected))
        self.assertIsNone(evidence.notes[6].early_late_ms)
        self.assertIsNotNone(evidence.notes[7].early_late_ms)
