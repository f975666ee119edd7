"""Rhythms read from onsets written down by hand; chords told from what rings, written down by hand; syllables of our own."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase

from didactor.core.hearing import chords, rhythm
from didactor.core.hearing.chords import _fit, _margin, _readings, _Written
from didactor.core.hearing.groups import moments_of
from didactor.core.hearing.hearing import Status
from didactor.core.hearing.rhythm import FEWEST_ONSETS, LIMP_GAIN, SIMPLE, THREES, Onset, _as_expectation, _read_limping
from didactor.core.hearing.spoken import find_syllables, hear
from didactor.core.hearing.strokes import Stroke
from didactor.core.instruments import BY_SLUG
from didactor.core.score.expected import without_notation
from didactor.core.sound.recording import RATE_HZ
from tests.core.test_taps import taps
from tests.music import expectation

#: Lengths in beats of a line of two bars and a close.
LINE = [1, 0.5, 0.5, 1, 1, 2, 1, 0.5, 0.5, 1, 1, 1, 2]


def onsets(lengths: list[float], beat_s: float = 0.6, scatter_s: float = 0.0, limp: float = 0.5) -> list[Onset]:
    """Solid onsets of these lengths; ``limp``: the share of the beat that its first half takes."""
    rng, at, found = np.random.default_rng(3), 0.0, []
    for length in [*lengths, 0]:
        whole, part = divmod(at, 1.0)
        place = whole + (limp if abs(part - 0.5) < 1e-6 else part)
        found.append(Onset(time_s=1.0 + beat_s * place + rng.normal(0, scatter_s), strength=1.0))
        at += length
    return found


def read(sounds: list[Onset], target_s: float = 0.6, table: dict[float, float] = SIMPLE) -> tuple[list[float], float]:
    """Lengths in beats, and the period found."""
    reading = _read_limping(sounds, target_s, table)
    return [round(b - a, 3) for a, b in zip(reading.beats, reading.beats[1:], strict=False)], reading.period_s


class RhythmTests(SimpleTestCase):
    def test_lengths_are_read_at_the_tempo_they_were_played_in(self):
        for beat_s in (0.5, 0.6, 0.75):
            lengths, period_s = read(onsets(LINE, beat_s, scatter_s=0.004))
            self.assertEqual(lengths, LINE, beat_s)
            self.assertAlmostEqual(period_s, beat_s, delta=0.03 * beat_s)

    def test_a_sound_between_that_fits_no_length_is_passed_over(self):
        sounds = sorted([*onsets(LINE), Onset(time_s=1.0 + 0.6 * 4.17, strength=0.3)], key=lambda o: o.time_s)
        self.assertEqual(read(sounds)[0], LINE)

    def test_faint_parts_of_held_tones_count_only_where_they_are_needed(self):
        rng = np.random.default_rng(4)
        faint = [Onset(time_s=float(t), strength=0.05) for t in rng.uniform(1.2, 8.0, 12)]
        self.assertEqual(read(sorted([*onsets(LINE), *faint], key=lambda o: o.time_s))[0], LINE)

    def test_pairs_that_limp_throughout_are_pairs_all_the_same(self):
        eighths = [0.5] * 12 + [1, 1]
        self.assertEqual(read(onsets(eighths, limp=0.62))[0], eighths)
        even = _read_limping(onsets(eighths), 0.6, SIMPLE)
        self.assertLess(even.cost, LIMP_GAIN)

    def test_thirds_of_a_beat_in_a_metre_of_threes(self):
        lengths, _ = read(onsets([1 / 3, 1 / 3, 1 / 3, 2 / 3, 1 / 3, 1, 1 / 3, 1 / 3, 1 / 3, 1], beat_s=0.9), 0.9, THREES)
        self.assertEqual([round(3 * length) for length in lengths], [1, 1, 1, 2, 1, 3, 1, 1, 1, 3])

    def test_a_pause_is_no_length_and_the_line_goes_on(self):
        sounds = onsets([1] * 16)
        waited = [Onset(time_s=o.time_s + (4.5 if k >= 8 else 0.0), strength=1.0) for k, o in enumerate(sounds)]
        self.assertEqual(read(waited)[0], [1.0] * 16)

    def test_a_line_may_begin_inside_a_beat(self):
        reading = _read_limping(onsets([0.5, 1, 1, 1, 1, 1])[0:1] + onsets([0.5, 1, 1, 1, 1, 1])[1:], 0.6, SIMPLE)
        on_beat = [abs(b - round(b)) < 0.1 for b in reading.beats]
        self.assertEqual(on_beat, [False] + [True] * 6)

    def test_what_was_read_is_laid_into_bars_as_many_as_it_takes(self):
        line = without_notation(2, 4, 4)
        laid = _as_expectation(_read_limping(onsets(LINE), 0.6, SIMPLE), line, 1.0)
        self.assertEqual([b.number for b in laid.bars], ["1", "2", "3", "4"])
        self.assertEqual([n.duration_quarters for n in laid.notes][:-1], LINE)
        self.assertEqual((laid.notes[6].bar, laid.notes[6].beat), ("2", 2.0))
        self.assertTrue(all(n.unpitched for n in laid.notes))

    def test_six_onsets_are_a_rhythm_and_five_are_none(self):
        claps, line = BY_SLUG["claps"], without_notation(2, 4, 4)
        for count in (FEWEST_ONSETS - 1, FEWEST_ONSETS):
            heard = rhythm.hear(taps(*[0.5 + 0.5 * k for k in range(count)]), line, 0.5, claps)
            self.assertEqual(heard is not None, count == FEWEST_ONSETS)
        self.assertEqual([n.status for n in heard.notes], [Status.CORRECT] * FEWEST_ONSETS)
        self.assertAlmostEqual(heard.seconds_per_quarter, 0.5, delta=0.02)

    def test_onsets_nearer_than_eighty_milliseconds_are_one_the_stronger(self):
        found = rhythm.find_onsets(taps(0.5, 1.0, 1.06, 1.6, level=(0.4, 0.2, 0.4, 0.4)))
        near = [o.time_s for o in found if 0.9 < o.time_s < 1.2]
        self.assertEqual(len(near), 1)
        self.assertEqual(len([o for o in rhythm.find_onsets(taps(0.5, 1.0, 1.1, 1.6)) if 0.9 < o.time_s < 1.2]), 2)
        self.assertEqual(rhythm.find_onsets(np.zeros(300, dtype=np.float32)), [])


C_MAJOR, A_MINOR, G_MAJOR = (0, 4, 7), (9, 0, 4), (7, 11, 2)


def ring(*classes: int, others: float = 0.0) -> np.ndarray:
    found = np.full(12, others)
    found[list(classes)] = 1.0
    return found


class ChordTests(SimpleTestCase):
    def test_a_chord_fits_what_rings_and_what_else_rings_speaks_against_it(self):
        self.assertEqual(_fit(ring(*C_MAJOR), C_MAJOR), 1.0)
        self.assertAlmostEqual(_fit(ring(*C_MAJOR, 2), C_MAJOR), 1.0 - 0.9 * 0.5)
        self.assertAlmostEqual(_fit(ring(0, 4), C_MAJOR), 2 / 3)

    def test_the_margin_is_over_the_best_chord_that_is_really_another(self):
        self.assertGreater(_margin(ring(*C_MAJOR), C_MAJOR), 0.3)
        self.assertLess(_margin(ring(*A_MINOR), C_MAJOR), -0.3)
        # A written seventh chord holds the triad: that is no other chord.
        self.assertGreater(_margin(ring(7, 11, 2), (7, 11, 2, 5)), -0.3)

    def readings(self, *rings: np.ndarray, missing: tuple[int, ...] = ()) -> list[tuple[str | None, Status]]:
        """Strokes on one bar of C, each with what rings after it."""
        chart = expectation("C4:q C4:q C4:q C4:q", fifths=0)
        moments = moments_of(chart)
        written = [_Written(text="C", pitch_classes=C_MAJOR, number=0)] * 4
        matched = {k: k for k in range(4) if k not in missing}
        strokes = [Stroke(time_s=1.0 + 0.5 * k, strength=1.0) for k in range(4)]
        return [(r.heard, r.status) for r in _readings(chart, moments, written, matched, strokes, list(rings))]

    def test_a_chord_as_written_another_and_none(self):
        c, a = ring(*C_MAJOR), ring(*A_MINOR)
        self.assertEqual(self.readings(c, c, c, c), [("C", Status.CORRECT)] * 4)
        self.assertEqual(self.readings(a, a, a, a), [("Am", Status.WRONG_PITCH)] * 4)
        self.assertEqual(self.readings(c, c, c, c, missing=(2,))[2], (None, Status.MISSED))

    def test_a_chord_that_comes_late_is_wrong_on_its_first_stroke_alone(self):
        c, g = ring(*C_MAJOR), ring(*G_MAJOR)
        self.assertEqual([s for _, s in self.readings(g, c, c, c)], [Status.WRONG_PITCH, *[Status.CORRECT] * 3])

    def test_neighbours_reassure_and_never_accuse(self):
        c, g = ring(*C_MAJOR), ring(*G_MAJOR)
        # Blurred by itself, carried by three clear ones; clear by itself among three wrong ones.
        blurred = ring(0, 4, 7, 9, others=0.2)
        self.assertIs(self.readings(blurred, c, c, c)[0][1], Status.CORRECT)
        self.assertIs(self.readings(c, g, g, g)[0][1], Status.CORRECT)

    def test_what_is_in_between_is_not_judged(self):
        # C and A minor share two of their pitch classes: the fifth against the sixth decides, with a gap between.
        def told(fifth: float, sixth: float) -> Status:
            heard = ring(0, 4)
            heard[7], heard[9] = fifth, sixth
            return self.readings(*[heard] * 4)[0][1]

        self.assertIs(told(1.0, 0.9), Status.CORRECT)
        self.assertIs(told(0.9, 1.0), Status.UNCERTAIN)
        self.assertIs(told(0.6, 1.0), Status.WRONG_PITCH)

    def test_every_root_can_be_named_major_and_minor(self):
        self.assertEqual(len(chords.CANDIDATES), 24)
        self.assertEqual(chords.CANDIDATES["F#m"], (6, 9, 1))


def voice(*times: float, seconds: float = 5.0, length_s: float = 0.2, level: float = 0.3) -> np.ndarray:
    """Vowels of a made-up voice, each with a soft beginning and end."""
    sound = np.random.default_rng(2).normal(0, 1e-4, int(seconds * RATE_HZ))
    for at in times:
        time_s = np.arange(int(length_s * RATE_HZ)) / RATE_HZ
        vowel = sum(np.sin(2 * np.pi * 140 * k * time_s) / k for k in range(1, 12))
        first = int(at * RATE_HZ)
        sound[first : first + len(vowel)] += level * vowel * np.sin(np.pi * time_s / length_s) ** 0.5
    return sound.astype(np.float32)


class SyllableTests(SimpleTestCase):
    def test_each_vowel_once_near_its_beginning(self):
        due = (0.5, 1.0, 1.4, 2.2)
        found = find_syllables(voice(*due))
        self.assertEqual(len(found), 4)
        self.assertLess(np.abs(found - np.array(due)).max(), 0.05)
        self.assertEqual(len(find_syllables(np.zeros(400, dtype=np.float32))), 0)

    def test_syllables_follow_one_another_no_quicker_than_a_tongue(self):
        self.assertEqual(len(find_syllables(voice(0.5, 1.0, 1.18, 2.0, length_s=0.13))), 4)
        self.assertEqual(len(find_syllables(voice(0.5, 1.0, 1.06, 2.0, length_s=0.05))), 3)

    def test_too_few_names_for_the_notes_are_nothing_to_go_by(self):
        line = expectation("C5:q C5:q C5:q C5:q | C5:q C5:q C5:q C5:q", fifths=0)
        flute = BY_SLUG["flute"]
        self.assertIsNone(hear(voice(0.5, 1.0, 1.5), line, 0.5, flute))
        all_of_them = hear(voice(*[0.5 + 0.5 * k for k in range(8)]), line, 0.5, flute)
        self.assertEqual([n.timed for n in all_of_them.notes], [True] * 8)
        self.assertEqual({n.status for n in all_of_them.notes}, {Status.UNCERTAIN})
        half = hear(voice(*[0.5 + 0.5 * k for k in range(4)]), line, 0.5, flute)
        self.assertEqual([n.timed for n in half.notes], [False] * 8)
