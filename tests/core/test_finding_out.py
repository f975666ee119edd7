"""What a student is asked about a passage, and how honest the answers to it are."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.score.expected import expect
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.study.difficulty import HARDEST, Correction, difficulty
from didactor.core.score.study.finding_out import Answered, Answers, Questions, answer, questions
from tests.music import TUNE, musicxml

PART = read(prepare(musicxml(TUNE))).parts[0]
BARS = {bar.index: bar for bar in PART.bars}
FOUND = difficulty(expect(PART), 92.0, PART)


def asked(words: dict[str, str] | None = None) -> Questions:
    return questions(PART.notes, BARS, words)


def told(said: Answers, found=FOUND) -> dict[str, Answered]:
    return {entry.about: entry for entry in answer(asked(), said, found, 60.0)}


class QuestionTests(SimpleTestCase):
    def test_every_question_has_something_to_find(self):
        found = asked()
        self.assertEqual(found.signs, ("F sharp", "C sharp"))
        letters = {note.id: note.step for note in PART.notes}
        self.assertEqual({letters[note] for note in found.key}, {"F", "C"})
        # A tie's second note is not struck again: nobody has to touch it.
        self.assertFalse(found.key & {note.id for note in PART.notes if note.tie_stop})
        # The bar with the triplet has the most to count.
        self.assertEqual(found.counted_bar, "3")
        self.assertEqual([c.word for c in found.counted if c.note_id], ["1", "trip", "let", "2", "3", "4"])

    def test_nothing_is_asked_where_nothing_is_to_be_found(self):
        part = read(prepare(musicxml("C5:w | D5:w", fifths=0))).parts[0]
        found = questions(part.notes, {bar.index: bar for bar in part.bars})
        self.assertEqual((found.asks_key, found.asks_hardest, found.asks_counts), (False, False, False))

    def test_a_studio_counts_in_its_own_words(self):
        self.assertIn("und", [c.word for c in asked({"and": "und"}).counted])


class AnswerTests(SimpleTestCase):
    def test_all_notes_of_the_key_are_found_and_no_other(self):
        key = asked().key
        self.assertIs(told(Answers(key=key))["key"].right, True)
        one, other = min(key), next(n for n in asked().pitched if n not in key)
        entry = told(Answers(key=(key - {one}) | {other}))["key"]
        self.assertEqual((entry.right, entry.overlooked, entry.mistaken), (False, (one,), (other,)))
        self.assertIn("1 overlooked, 1 that the key does not change", entry.words)

    def test_nothing_touched_is_not_the_same_as_nothing_said(self):
        self.assertIs(told(Answers(key=frozenset()))["key"].right, False)
        entry = told(Answers())["key"]
        self.assertIsNone(entry.right)
        self.assertEqual(set(entry.overlooked), asked().key)

    def test_a_bar_nearly_as_hard_is_as_good_an_answer(self):
        ranked = sorted(FOUND.bars, key=lambda b: -b.value)
        self.assertIs(told(Answers(hardest=ranked[0].number))["hardest"].right, True)
        self.assertIs(told(Answers(hardest=ranked[-1].number))["hardest"].right, False)
        self.assertIn(f"look at bar {ranked[0].number}", told(Answers(hardest=ranked[-1].number))["hardest"].words)
        near = FOUND.corrected({ranked[-1].number: Correction(steps=HARDEST, why="the shift")})
        self.assertIs(told(Answers(hardest=ranked[-1].number), near)["hardest"].right, True)
        self.assertIs(told(Answers(hardest="99"))["hardest"].right, False)

    def test_every_note_must_be_counted_where_it_is(self):
        due = {c.note_id: c.word for c in asked().counted if c.note_id}
        self.assertIs(told(Answers(counts=due))["counts"].right, True)
        late = {**due, list(due)[2]: "4"}
        entry = told(Answers(counts=late))["counts"]
        self.assertEqual((entry.right, entry.mistaken), (False, (list(due)[2],)))
        self.assertIs(told(Answers(counts={next(iter(due)): "1"}))["counts"].right, False)
        self.assertIsNone(told(Answers(counts={next(iter(due)): ""}))["counts"].right)

    def test_a_tempo_at_ease_is_right_and_a_brisk_one_is_said(self):
        self.assertIs(told(Answers(tempo_bpm=66))["tempo"].right, True)
        self.assertIs(told(Answers(tempo_bpm=67))["tempo"].right, False)
        self.assertIsNone(told(Answers())["tempo"].right)
