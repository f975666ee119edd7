"""Bars alike, difficulty, cuts and ladders."""

from __future__ import annotations

from dataclasses import replace

from django.test import SimpleTestCase

from didactor.core.score.expected import expect
from didactor.core.score.model import Part
from didactor.core.score.read.formats import to_musicxml
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.study.difficulty import HARDEST, Correction, difficulty, ladder, starting_tempo
from didactor.core.score.study.hand_moves import hand_changes
from didactor.core.score.study.likeness import Kind, likenesses
from didactor.core.score.study.segments import hardest_first, phrases, two_by_two
from tests.music import musicxml

FIRST = "C4:q E4:e F4:e G4:q E4:q"


def part(text: str, **line: object) -> Part:
    return read(prepare(musicxml(text, **{"fifths": 0, **line}))).parts[0]


class LikenessTests(SimpleTestCase):
    def like(self, *bars: str) -> list[tuple[int, int, Kind, int, int]]:
        return [(x.bar, x.pattern, x.kind, x.semitones, len(x.trap)) for x in likenesses(part(" | ".join(bars)))]

    def test_the_same_moved_and_almost_the_same(self):
        self.assertEqual(self.like(FIRST, "A4:w", FIRST), [(2, 0, Kind.SAME, 0, 0)])
        self.assertEqual(self.like(FIRST, "F4:q A4:e Bb4:e C5:q A4:q"), [(1, 0, Kind.TRANSPOSED, 5, 0)])
        self.assertEqual(self.like(FIRST, "C4:q E4:e F4:e A4:q E4:q"), [(1, 0, Kind.ALMOST, 0, 1)])
        self.assertEqual(self.like(FIRST, "D4:h B4:h", "G4:e A4:e B4:e A4:e G4:h"), [])

    def test_the_trap_is_the_note_that_leaves_the_pattern(self):
        made = part(f"{FIRST} | C4:q E4:e F4:e A4:q E4:q")
        [trap] = likenesses(made)[0].trap
        self.assertEqual(next(n for n in made.notes if n.id == trap).written_pitch, "A4")

    def test_rhythm_changed_and_a_moved_copy_with_a_trap(self):
        self.assertEqual(self.like(FIRST, "C4:q E4:e. F4:s G4:q E4:q")[0][2], Kind.ALMOST)
        self.assertEqual(self.like(FIRST, "D4:q F#4:e G4:e A4:q A4:q"), [(1, 0, Kind.ALMOST, 2, 1)])


def chart(grid: str) -> Part:
    [(xml, _)] = to_musicxml(f"{{title: A chart}}\n{{start_of_grid}}\n{grid}\n{{end_of_grid}}\n".encode())
    return read(prepare(xml)).parts[0]


class ChartTests(SimpleTestCase):
    def test_bars_of_a_chart_are_alike_by_their_chords(self):
        made = chart("| C . . . | G . . . | C . . . | C . G . | C . F . |")
        found = {x.bar: (x.pattern, x.kind) for x in likenesses(made)}
        self.assertEqual(found[2], (0, Kind.SAME))
        self.assertEqual({bar for bar, (_, kind) in found.items() if kind is Kind.SAME}, {2})
        # The fifth is the fourth with another chord at its end: that is the trap.
        [trap] = [x for x in likenesses(made) if x.bar == 4]
        at = next(n for n in made.notes if n.id == trap.trap[0])
        self.assertEqual((trap.pattern, trap.kind, at.bar_index, at.onset_quarters), (3, Kind.ALMOST, 4, 2))

    def test_quick_changes_make_a_bar_of_a_chart_the_hardest(self):
        made = chart("| C . . . | G . . . | C . . . | C F G Am | C . . . |")
        found = difficulty(expect(made), 80.0, made)
        self.assertEqual((found.hardest.number, found.hardest.why), ("4", ("quick changes of chord",)))


class DifficultyTests(SimpleTestCase):
    def of(self, text: str, tempo: float = 80.0, fifths: int = 0):
        made = part(text, fifths=fifths)
        return difficulty(expect(made), tempo, made)

    def test_each_reason_makes_a_bar_harder_and_is_named(self):
        plain = "C4:q D4:q E4:q D4:q"
        for harder, why in (
            ("C4:s D4:s E4:s D4:s C4:s D4:s E4:s D4:s C4:q D4:q", "many notes a second"),
            ("C4:e D4:q E4:q F4:q E4:e", "an unusual rhythm"),
            ("C4:q A4:q D4:q B4:q", "leaps"),
            ("C4:q D#4:q Eb4:q F#4:q", "signs against the key"),
        ):
            found = self.of(f"{plain} | {harder}")
            self.assertEqual(found.hardest.number, "2", why)
            self.assertIn(why, found.hardest.why)
        self.assertGreater(self.of(plain, 160).value, self.of(plain, 80).value)
        # Where all bars are alike there is nothing to say of one of them.
        self.assertEqual(self.of(f"{plain} | {plain}").hardest.why, ())

    def test_what_all_bars_have_is_no_reason(self):
        quick = "C4:s D4:s E4:s D4:s C4:s D4:s E4:s D4:s C4:q D4:q"
        found = self.of(" | ".join([quick, quick, "C4:s D#4:s E4:s D4:s C4:s D4:s Eb4:s D4:s C4:q D4:q", quick]))
        self.assertEqual((found.hardest.number, found.hardest.why), ("3", ("signs against the key",)))

    def test_moves_of_the_hand_and_lines_from_hand_to_hand_count(self):
        scale = "C4:e D4:e E4:e F4:e G4:e F4:e E4:e D4:e"
        made = part(f"{scale} | C4:e D4:e E4:e F4:e G4:e A4:e D5:e C5:e", name="Piano")
        self.assertEqual([b.parts["moves"] > 0 for b in difficulty(expect(made), 60, made).bars], [False, True])
        handed = replace(made, notes=tuple(replace(n, staff=1 + k // 2 % 2) if n.bar_index == 0 else n for k, n in enumerate(made.notes)))
        self.assertIn("the line goes from hand to hand", difficulty(expect(handed), 60, handed).bars[0].why)
        # A low note held under the line is no change of hands.
        held = replace(handed, notes=(replace(made.notes[0], id="low", staff=2, duration_quarters=4.0), *made.notes))
        self.assertEqual(hand_changes(held.notes), {})

    def test_a_teachers_word_counts_more_than_the_reckoning(self):
        made = part("C4:q D4:q E4:q D4:q | C4:s D4:s E4:s D4:s C4:s D4:s E4:s D4:s C4:q D4:q")
        found = difficulty(expect(made), 80, made)
        said = found.corrected({"1": Correction(steps=HARDEST, why="the breath"), "2": Correction(steps=-2)})
        self.assertEqual((found.hardest.number, said.hardest.number, said.hardest.why), ("2", "1", ("the breath",)))
        self.assertLess(said.bars[1].value, found.bars[1].value)
        self.assertEqual(found.corrected({"1": Correction(steps=HARDEST)}).hardest.why, ("marked by the teacher",))

    def test_a_beginner_starts_slower_and_climbs_to_the_target(self):
        found = self.of("C4:e D4:e E4:e F4:e G4:e F4:e E4:e D4:e | C4:w", 120)
        slow, quick = (starting_tempo(found, 120, level) for level in ("beginner", "advanced"))
        self.assertLess(slow, 70)
        self.assertEqual(quick, 120)
        steps = ladder(slow, 120)
        self.assertEqual((steps[-1], steps), (120, sorted(set(steps))))
        self.assertLessEqual(len(steps), 9)
        self.assertEqual(ladder(90, 80), [80])


class SegmentTests(SimpleTestCase):
    LONG = f"A3:q | {FIRST} | G4:h. r:q | {FIRST} | D4:q E4:q F4:q G4:q | A4:s B4:s C5:s D5:s E5:q D5:q C5:q | C5:w"

    def test_cuts_by_twos_by_phrases_and_hardest_first(self):
        made = part(self.LONG)
        self.assertEqual([s.bars for s in two_by_two(made.bars)], ["0-2", "3-4", "5-6"])
        self.assertEqual([s.bars for s in phrases(made)], ["0-2", "3-6"])
        found = difficulty(expect(made), 80, made)
        hardest = hardest_first(made, found)
        self.assertEqual(hardest[0].bars, "4-5")
        # Every bar has its turn, none has two.
        numbers = [b.number for b in made.bars]
        covered = [n for s in hardest for n in numbers[numbers.index(s.first) : numbers.index(s.last) + 1]]
        self.assertEqual(sorted(covered), sorted(numbers))
        values = {b.number: b.value for b in found.bars}
        tops = [max(values[n] for n in numbers[numbers.index(s.first) : numbers.index(s.last) + 1]) for s in hardest]
        self.assertEqual(tops, sorted(tops, reverse=True))


class WideGripTests(SimpleTestCase):
    def test_more_than_an_octave_in_one_hand_is_wide_an_octave_and_two_hands_are_not(self):
        from didactor.core.score.study.hand_moves import wide_grips

        part = read(prepare(musicxml("C4+E5:w | C4+C5:w | C5:w", lower="C3:w | C3:w | C3:w", name="Piano", fifths=0))).parts[0]
        self.assertEqual(wide_grips(part.notes), (0,))
