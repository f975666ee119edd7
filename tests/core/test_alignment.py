"""Events laid over notes: jumps, gaps, repeats, other tempi. No sound is needed: the events are written here."""

from __future__ import annotations

import itertools

from django.test import SimpleTestCase

from didactor.core.hearing.alignment import Alignment
from didactor.core.hearing.events import Event
from didactor.core.hearing.line_costs import align_line as align
from tests.music import expectation

SCALE = "C4:q D4:q E4:q F4:q | G4:q A4:q B4:q C5:q | D5:q C5:q B4:q A4:q | G4:q F4:q E4:q D4:q | C4:w"


def event(midi: int, onset_s: float, length_s: float = 0.5, soft: bool = False) -> Event:
    return Event(
        onset_s=onset_s,
        offset_s=onset_s + length_s,
        midi=midi,
        pitch=float(midi),
        spread=0.05,
        level_db=-15.0,
        voicing=0.98,
        strength=1.0,
        soft=soft,
    )


def played(indices: list[int], seconds_per_quarter: float = 0.6, start_s: float = 1.0) -> list[Event]:
    """Notes of the scale one after the other, whatever their place in the score."""
    notes = expectation(SCALE, fifths=0).notes
    events, clock = [], start_s
    for index in indices:
        length = notes[index].duration_quarters * seconds_per_quarter
        events.append(event(notes[index].sounding_midi, clock, 0.9 * length))
        clock += length
    return events


class AlignmentTests(SimpleTestCase):
    notes = expectation(SCALE, fifths=0).notes

    def path(self, events: list[Event], guess: float = 0.6) -> tuple[list[int], Alignment]:
        alignment = align(events, self.notes, guess)
        return [m.note for m in alignment.matches], alignment

    def test_everything_in_its_place(self):
        path, alignment = self.path(played(list(range(17))))
        self.assertEqual(path, list(range(17)))
        self.assertLess(alignment.cost_per_note, 0.01)

    def test_half_and_double_tempo_are_found(self):
        for factor in (0.5, 0.75, 1.5, 2.0):
            with self.subTest(factor=factor):
                path, alignment = self.path(played(list(range(17)), 0.6 * factor))
                self.assertEqual(path, list(range(17)))
                self.assertAlmostEqual(alignment.seconds_per_quarter, 0.6 * factor, delta=0.07 * factor)

    def test_a_restart_is_a_jump_back(self):
        path, alignment = self.path(played([*range(10), *range(4, 17)]))
        self.assertEqual(path, [*range(10), *range(4, 17)])
        self.assertEqual([m.note for m in alignment.matches if m.jump], [4])

    def test_skipped_bars_are_a_jump_ahead(self):
        path, _alignment = self.path(played([*range(4), *range(12, 17)]))
        self.assertEqual(path, [*range(4), *range(12, 17)])

    def test_whoever_leaves_bars_out_leaves_their_time_out(self):
        # Bars 2 and 3 are heard badly, in their time: other pitches, and pieces of them.
        events = played(list(range(17)))
        blurred = [event(50 + i % 3, e.onset_s, 0.2) if 4 <= i < 12 else e for i, e in enumerate(events)]
        alignment = self.path(blurred)[1]
        self.assertFalse(any(m.jump for m in alignment.matches))
        self.assertEqual((alignment.matches[0].note, alignment.matches[-1].note), (0, 16))
        self.assertEqual({m.note for m in alignment.matches if m.event >= 12}, set(range(12, 17)))

    def test_a_start_in_the_wrong_place(self):
        path, _ = self.path(played(list(range(8, 17))))
        self.assertEqual(path, list(range(8, 17)))

    def test_a_missing_and_an_extra_note_do_not_shift_the_rest(self):
        events = played([i for i in range(17) if i != 6])
        events.insert(11, event(90, events[11].onset_s - 0.2, 0.15))
        path, alignment = self.path(sorted(events, key=lambda e: e.onset_s))
        self.assertEqual(path, [i for i in range(17) if i != 6])
        self.assertNotIn(90, [events[m.event].midi for m in alignment.matches])

    def test_wrong_notes_keep_their_place(self):
        events = played(list(range(17)))
        events[5] = event(events[5].midi + 1, events[5].onset_s)
        events[9] = event(events[9].midi - 12, events[9].onset_s)
        self.assertEqual(self.path(events)[0], list(range(17)))

    def test_soft_splits_are_passed_over(self):
        events = played(list(range(17)))
        for index in (3, 8, 12):
            events.append(event(events[index].midi, events[index].onset_s + 0.25, 0.2, soft=True))
        path, _ = self.path(sorted(events, key=lambda e: e.onset_s))
        self.assertEqual(path, list(range(17)))

    def test_sounds_before_and_after_belong_to_nobody(self):
        events = [event(69, 0.1, 0.4), event(57, 0.7, 0.2), *played(list(range(17)), start_s=3.0), event(50, 16.0)]
        path, alignment = self.path(events)
        self.assertEqual(path, list(range(17)))
        self.assertEqual(alignment.matches[0].event, 2)

    def test_nothing_heard_matches_nothing(self):
        self.assertEqual(align([], self.notes, 0.6).matches, ())
        self.assertEqual(align([], self.notes, 0.6).matches, ())


class RepeatedPitchTests(SimpleTestCase):
    def test_repeats_that_run_together_do_not_cost_a_jump(self):
        notes = expectation("C4:q C4:q C4:q D4:q | E4:q E4:q F4:q G4:q", fifths=0).notes
        events = [event(60, 1.0, 1.7), event(62, 2.8), event(64, 3.4, 1.1), event(65, 4.6), event(67, 5.2)]
        self.assertEqual([m.note for m in align(events, notes, 0.6).matches], [0, 3, 4, 6, 7])


class AlikeBarsTests(SimpleTestCase):
    """Bars that come back: a cut is heard at a bar line, and a repeat is left out only whole."""

    ALIKE = "C4:q E4:q G4:q E4:q | D4:h F4:h | D4:h F4:h | C4:q E4:q G4:q C5:q | C5:w | G4:q F4:q E4:q D4:q | C4:w"

    def path(self, text: str, indices: list[int]) -> list[tuple[int, bool]]:
        notes = expectation(text, fifths=0).notes
        events, clock = [], 1.0
        for index in indices:
            length = notes[index].duration_quarters * 0.6
            events.append(event(notes[index].sounding_midi, clock, 0.9 * length))
            clock += length
        return [(m.note, m.jump) for m in align(events, notes, 0.6).matches]

    def test_one_of_two_like_bars_left_out_is_one_whole_bar(self):
        for left_out in ((4, 5), (6, 7)):
            with self.subTest(left_out=left_out):
                path = self.path(self.ALIKE, [i for i in range(18) if i not in left_out])
                missing = sorted(set(range(18)) - {note for note, _ in path})
                self.assertIn(missing, [[4, 5], [6, 7]])
                self.assertEqual(sum(jump for _, jump in path), 1)

    def test_a_bar_of_one_note_passed_over_in_no_time_is_left_out(self):
        path = self.path(self.ALIKE, [i for i in range(18) if i != 12])
        self.assertEqual([note for note, jump in path if jump], [13])

    def test_a_note_missed_in_its_time_is_no_cut(self):
        notes = expectation(self.ALIKE, fifths=0).notes
        events = [event(n.sounding_midi, 1.0 + 0.6 * n.onset_quarters, 0.5) for i, n in enumerate(notes) if i != 12]
        self.assertFalse(any(m.jump for m in align(events, notes, 0.6).matches))

    def test_repeated_notes_missed_in_their_time_are_no_cut(self):
        # Bars on one pitch, each in a rhythm of its own: by pitch alone a cut could be moved anywhere among them.
        rhythms = ("D4:q D4:e D4:e D4:h", "D4:h D4:q D4:q", "D4:q. D4:e D4:h", "D4:h D4:h", "D4:q D4:q D4:h", "D4:w")
        for bars in itertools.permutations(rhythms, 3):
            text = " | ".join(["C4:q E4:q G4:q E4:q", *bars, "C4:q E4:q G4:q C5:q", "C5:w"])
            notes = expectation(text, fifths=0).notes
            for missed in (i for i, n in enumerate(notes) if n.written_pitch == "D4"):
                events = [event(n.sounding_midi, 1.0 + 0.6 * n.onset_quarters) for i, n in enumerate(notes) if i != missed]
                self.assertFalse(any(m.jump for m in align(events, notes, 0.6).matches), (text, missed))

    def test_part_of_a_second_time_left_out_is_not_the_whole_repeat(self):
        text = f"|: {' | '.join(self.ALIKE.split(' | ')[:4])} :| {' | '.join(self.ALIKE.split(' | ')[4:])}"
        # The second time without its first two bars.
        path = self.path(text, [*range(12), *range(18, 30)])
        self.assertEqual([note for note, jump in path if jump], [18])
