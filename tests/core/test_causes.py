"""What is said of several faults together: by chance or not, a forgotten sign, others that sound along, limping pairs, bars left out."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from itertools import combinations

from django.test import SimpleTestCase

from didactor.core.hearing.hearing import ExtraNote, Status
from didactor.core.judging.evidence import NoteJudgement, Pair
from didactor.core.judging.recurring import by_chance, places_of, recurring
from didactor.core.judging.registry import Finding
from didactor.core.judging.root_causes import forgotten_accidentals, limp, others_sound, runs_left_out
from didactor.core.score.expected import Expectation
from tests.music import expectation


@dataclass
class Heard:
    """As much of the evidence as is asked for here."""

    expectation: Expectation
    notes: list[NoteJudgement] = field(default_factory=list)
    extra: list[ExtraNote] = field(default_factory=list)
    pairs: list[Pair] = field(default_factory=list)
    skipped_bars: list[tuple[str, int]] = field(default_factory=list)
    shift: int = 0


def heard(text: str, wrong: dict[int, int] | None = None, fifths: int = 0, **more) -> Heard:
    """All notes right, but for some by index, heard so many semitones off; ``shift`` moves what is heard of all."""
    written = expectation(text, fifths=fifths)
    shift = more.get("shift", 0)
    notes = [
        NoteJudgement(
            note=n,
            status=Status.WRONG_PITCH if k in (wrong or {}) else Status.CORRECT,
            confidence=0.9,
            onset_s=0.5 * n.onset_quarters,
            heard_midi=n.sounding_midi + shift + (wrong or {}).get(k, 0),
        )
        for k, n in enumerate(written.notes)
    ]
    return Heard(expectation=written, notes=notes, **more)


class ChanceTests(SimpleTestCase):
    def test_it_is_the_share_of_draws_that_hit_as_often(self):
        for of, inside, drawn in ((8, 3, 4), (9, 4, 3), (6, 6, 2)):
            draws = list(combinations(range(of), drawn))
            for hits in range(drawn + 1):
                share = sum(sum(d < inside for d in draw) >= hits for draw in draws) / len(draws)
                self.assertAlmostEqual(by_chance(hits, of, inside, drawn), share)

    TEXT = " | ".join(["C4:q D4:q E4:q F4:q"] * 8)

    def found(self, faults: list[int], inside: set[int]) -> list[int]:
        """How many faults each pattern found has; the faults are wrong notes by index."""
        take = heard(self.TEXT)
        findings = [
            Finding.at_note(take.notes[k], code="notes.wrong", category="notes", text="", severity=1.0, size=1.0, unit="semitones")
            for k in faults
        ]
        return [len(r.places) for r in recurring(take, findings, lambda place: place.index in inside)]

    def test_three_faults_in_one_rare_class_are_a_pattern(self):
        self.assertEqual(self.found([3, 7, 11], {3, 7, 11}), [3])
        self.assertEqual(self.found([3, 7], {3, 7}), [])

    def test_three_of_four_must_lie_there(self):
        inside = {3, 7, 11}
        self.assertEqual(self.found([3, 7, 11, 20], inside), [3])
        self.assertEqual(self.found([3, 7, 11, 20, 22], inside), [])

    def test_a_class_of_half_the_notes_needs_more_of_them(self):
        inside = set(range(16))
        self.assertEqual(self.found([1, 3, 5, 7, 9, 11], inside), [])
        self.assertEqual(self.found([1, 2, 3, 5, 7, 9, 11, 13, 14], inside), [9])

    def test_a_class_of_all_notes_or_of_none_says_nothing(self):
        self.assertEqual(self.found([3, 7, 11], set(range(32))), [])
        self.assertEqual(self.found([3, 7, 11], set()), [])

    def test_the_note_before_is_the_one_of_its_own_staff(self):
        written = expectation("C5:q G5:q", lower="C3:q D3:q", name="Piano", fifths=0)
        notes = [NoteJudgement(note=n, status=Status.CORRECT, confidence=0.9) for n in written.notes]
        intervals = {p.item.note.written_pitch: p.interval for p in places_of(Heard(expectation=written, notes=notes))}
        self.assertEqual(intervals, {"C5": 0, "G5": 7, "C3": 0, "D3": 2})


class ForgottenSignTests(SimpleTestCase):
    #: Two sharps: F and C are raised, three times and twice.
    TEXT = "F#4:q D4:q F#4:q C#5:q | D5:q F#4:q C#5:q D5:q"

    def steps(self, wrong: dict[int, int], **more) -> dict[str, int]:
        return {step: len(items) for step, items in forgotten_accidentals(heard(self.TEXT, wrong, fifths=2, **more)).items()}

    def test_a_sign_forgotten_two_times_of_three_is_the_rule(self):
        self.assertEqual(self.steps({0: -1, 2: -1}), {"F": 2})
        self.assertEqual(self.steps({0: -1}), {})
        self.assertEqual(self.steps({3: -1, 6: -1}), {"C": 2})

    def test_another_wrong_note_is_no_forgotten_sign(self):
        self.assertEqual(self.steps({0: -1, 2: -2}), {})
        self.assertEqual(self.steps({0: 1, 2: 1}), {})

    def test_what_was_not_judged_does_not_count(self):
        take = heard(self.TEXT, {0: -1, 2: -1}, fifths=2)
        take.notes[5] = replace(take.notes[5], status=Status.UNCERTAIN)
        self.assertEqual(list(forgotten_accidentals(take)), ["F"])
        four = heard(f"{self.TEXT} | F#4:q F#4:q D4:h", {0: -1, 2: -1}, fifths=2)
        self.assertEqual(forgotten_accidentals(four), {})

    def test_it_is_known_through_a_transposition(self):
        self.assertEqual(self.steps({0: -1, 2: -1}, shift=-2), {"F": 2})

    def test_a_flat_is_forgotten_upwards(self):
        take = heard("Bb4:q C5:q Bb4:q A4:q", {0: 1, 2: 1}, fifths=-1)
        self.assertEqual(list(forgotten_accidentals(take)), ["B"])


class OthersTests(SimpleTestCase):
    def sounds(self, count: int, notes: int, midi: int | None = 60) -> bool:
        bars = " | ".join(["C4:q D4:q E4:q F4:q"] * (notes // 4))
        extra = [ExtraNote(onset_s=float(k), midi=midi, bar="1", pass_=1, beat=0.0) for k in range(count)]
        return others_sound(heard(bars, extra=extra))

    def test_eight_sounds_and_a_fifth_of_the_notes_are_more_than_slips(self):
        self.assertEqual([self.sounds(n, 16) for n in (7, 8)], [False, True])
        self.assertEqual([self.sounds(n, 60) for n in (11, 12)], [False, True])

    def test_strokes_without_pitch_are_nobody_else(self):
        self.assertFalse(self.sounds(20, 16, midi=None))


class LimpTests(SimpleTestCase):
    def limps(self, *ratios: float, half: bool = False) -> float | None:
        pairs = [Pair(bar="1", pass_=1, beat=0.0, onset_quarters=0.0, ratio_percent=r, half=half) for r in ratios]
        found = limp(heard("C4:q D4:q E4:q F4:q", pairs=pairs))
        return None if found is None else round(found, 3)

    def test_many_pairs_limp_from_five_per_cent_on_and_few_from_seven(self):
        self.assertEqual(self.limps(*[55.2] * 6), 55.2)
        self.assertIsNone(self.limps(*[54.8] * 6))
        self.assertEqual(self.limps(*[57.2] * 5), 57.2)
        self.assertIsNone(self.limps(*[56.8] * 5))
        self.assertIsNone(self.limps(60.0, 60.0))

    def test_to_the_same_side_and_beyond_their_own_spread(self):
        self.assertEqual(self.limps(*[44.0] * 8), 44.0)
        self.assertIsNone(self.limps(58.0, 58.0, 58.0, 58.0, 42.0, 42.0, 58.0))
        self.assertIsNone(self.limps(52.0, 66.0, 51.0, 63.0, 58.0, 70.0))

    def test_halves_of_a_beat_limp_for_themselves(self):
        self.assertEqual(self.limps(*[60.0] * 6, half=True), 60.0)


class LeftOutTests(SimpleTestCase):
    def runs(self, *skipped: tuple[str, int], order: str = "1-4 1-4") -> list[tuple[list[str], bool]]:
        written = expectation(" | ".join(["C4:q D4:q E4:q F4:q"] * 4), order=order, fifths=0)
        notes = [NoteJudgement(note=n, status=Status.CORRECT, confidence=0.9) for n in written.notes]
        found = runs_left_out(Heard(expectation=written, notes=notes, skipped_bars=list(skipped)))
        return [([number for number, _ in run.bars], run.is_repeat) for run in found]

    def test_neighbours_are_one_run(self):
        self.assertEqual(self.runs(("2", 1), ("3", 1)), [(["2", "3"], False)])
        self.assertEqual(self.runs(("1", 1), ("3", 1)), [(["1"], False), (["3"], False)])
        self.assertEqual(self.runs(), [])

    def test_all_that_would_have_come_again_is_a_repeat_left_out(self):
        second = [(str(n), 2) for n in range(1, 5)]
        self.assertEqual(self.runs(*second), [(["1", "2", "3", "4"], True)])
        self.assertEqual(self.runs(*second[1:]), [(["2", "3", "4"], False)])
        # Neither time was played: that is no repeat.
        self.assertEqual([r for _, r in self.runs(*second, *[(str(n), 1) for n in range(1, 5)])], [False])
