"""A student's marks beside what was heard, pins answered in the next take, and two takes held against each other."""

from __future__ import annotations

from dataclasses import replace
from functools import cache

from django.test import SimpleTestCase

from didactor.core.analyse import analyse
from didactor.core.comparing.figures import FIGURES, figure_of
from didactor.core.comparing.own_ear import FEWEST, Agreement, Mended, OwnMark, answer_pins, bar_span, compare
from didactor.core.comparing.pairs import tell
from didactor.core.formats.analysis_json import result_of
from didactor.core.formats.result import FindingResult, Result
from didactor.core.hearing.hearing import Status
from didactor.core.judging.categories import CATEGORIES
from didactor.core.judging.targets import Targets
from tests.music import TUNE, expectation, played


@cache
def heard(*faults: tuple[tuple[str, object], ...], stage: str = "at_tempo", instrument: str = "clarinet") -> Result:
    targets = Targets(tempo_qpm=92.0, instrument=instrument, stage=stage)
    return result_of(analyse(played(*(dict(f) for f in faults), instrument=instrument), expectation(TUNE), targets))


def clean(**changes: object) -> Result:
    return replace(heard(), findings=(), **changes)


def remark(bar: str | None, category: str = "notes", code: str = "notes.wrong", notes: tuple[str, ...] = ()) -> FindingResult:
    return FindingResult(code=code, category=category, bar=bar, pass_=1, note_ids=notes, confidence=0.9, text=f"{category} in {bar}")


def pin(bar: str, category: str = "notes") -> OwnMark:
    return OwnMark(category=category, title=category, mend=True, bar=bar)


def row(category: str, *, mend: bool = True, figure: str = "") -> OwnMark:
    return OwnMark(category=category, title=category, mend=mend, figure=figure)


class CompareTests(SimpleTestCase):
    def kinds(self, marks: list[OwnMark], *findings: FindingResult, **changes: object) -> list[Agreement]:
        return [place.agreement for place in compare(marks, replace(clean(**changes), findings=findings)).places]

    def test_within_a_bar_and_in_the_same_category_it_is_the_same(self):
        for bar, kind in (("4", Agreement.BOTH), ("3", Agreement.BOTH), ("5", Agreement.BOTH)):
            self.assertEqual(self.kinds([pin(bar)], remark("4")), [kind], bar)
        self.assertEqual(self.kinds([pin("6")], remark("4")), [Agreement.TOO_HARD, Agreement.MISSED])
        self.assertEqual(self.kinds([pin("4", "rhythm")], remark("4")), [Agreement.TOO_HARD, Agreement.MISSED])

    def test_a_finding_answers_one_pin_only_once_as_a_place(self):
        self.assertEqual(self.kinds([pin("3"), pin("4")], remark("3"), remark("4")), [Agreement.BOTH, Agreement.BOTH])
        self.assertEqual(self.kinds([pin("3"), pin("4")], remark("3")), [Agreement.BOTH, Agreement.BOTH])

    def test_a_finding_of_many_bars_lies_in_all_of_them(self):
        last = next(n.id for n in heard().notes or () if n.bar == "7")
        self.assertEqual(self.kinds([pin("7")], remark("2", notes=(last,))), [Agreement.BOTH])

    def test_a_row_speaks_for_all_of_its_kind_and_a_good_one_is_no_place(self):
        self.assertEqual(self.kinds([row("notes")], remark("2"), remark("6")), [Agreement.BOTH])
        self.assertEqual(self.kinds([row("notes", mend=False)], remark("2")), [Agreement.MISSED])
        self.assertEqual(self.kinds([row("notes")]), [Agreement.TOO_HARD])

    def test_a_row_whose_remarks_were_all_pinned_says_nothing_new(self):
        self.assertEqual(self.kinds([row("notes"), pin("2")], remark("2")), [Agreement.BOTH])
        self.assertEqual(self.kinds([row("notes"), pin("2")], remark("2"), remark("6")), [Agreement.BOTH, Agreement.BOTH])

    def test_what_no_figure_can_check_is_nobodys_fault(self):
        for category in ("tone", "expression", "other", "hands"):
            self.assertEqual(self.kinds([row(category)]), [Agreement.UNKNOWABLE], category)
        # A clarinet in first reading: nobody judged where notes were placed.
        first = heard(stage="first_reading")
        self.assertEqual([p.agreement for p in compare([row("rhythm")], replace(first, findings=())).places], [Agreement.UNKNOWABLE])
        self.assertEqual(self.kinds([row("rhythm", figure="count")]), [Agreement.UNKNOWABLE])

    def test_a_bar_of_which_little_was_judged_does_not_speak_against_the_student(self):
        notes = tuple(replace(n, status=Status.UNCERTAIN) if n.bar == "2" else n for n in heard().notes or ())
        self.assertEqual(self.kinds([pin("2")], notes=notes), [Agreement.UNKNOWABLE])
        self.assertEqual(self.kinds([pin("99")], notes=notes), [Agreement.UNKNOWABLE])

    def test_a_row_of_the_teachers_is_checked_by_the_figure_it_names(self):
        self.assertEqual(self.kinds([row("other", figure="pulse")], remark("3", "flow", "flow.hesitation")), [Agreement.BOTH])
        self.assertEqual(self.kinds([row("other", figure="pulse")], remark("3")), [Agreement.TOO_HARD, Agreement.MISSED])

    def test_below_ten_places_nothing_is_said_of_the_whole(self):
        many = tuple(remark(str(k % 8 + 1)) for k in range(FEWEST))
        self.assertIsNone(compare([], replace(clean(), findings=many[1:])).shared)
        self.assertEqual(compare([], replace(clean(), findings=many)).shared, (0, FEWEST))
        self.assertEqual(compare([pin("1"), row("tone")], replace(clean(), findings=many)).shared, (1, FEWEST))


class FigureTests(SimpleTestCase):
    def test_every_figure_has_words_and_a_category(self):
        self.assertEqual(len({f.slug for f in FIGURES}), len(FIGURES))
        for figure in FIGURES:
            self.assertTrue(figure.title and figure.codes)
            self.assertIn(figure.category, CATEGORIES)
            self.assertIsInstance(figure.heard(heard()), bool)
        self.assertIsNone(figure_of("notes", "ear"))
        self.assertIsNone(figure_of("tone"))

    def test_a_keyboard_is_not_checked_for_intonation(self):
        figure = figure_of("intonation")
        self.assertTrue(figure and figure.heard(heard()))
        self.assertFalse(figure and figure.heard(heard(instrument="piano")))


class PinTests(SimpleTestCase):
    def states(self, pins: list[OwnMark], *findings: FindingResult) -> list[Mended]:
        return [answered.state for answered in answer_pins(pins, heard(), replace(clean(), findings=findings))]

    def test_each_pin_is_mended_still_there_or_cannot_be_told(self):
        pins = [pin("3"), pin("6"), pin("6", "tone"), pin("99")]
        self.assertEqual(self.states(pins, remark("7")), [Mended.MENDED, Mended.STILL, Mended.CANNOT_TELL, Mended.CANNOT_TELL])

    def test_both_places_can_be_heard(self):
        (answered,) = answer_pins([pin("3")], heard(), heard())
        self.assertEqual(answered.before_s, answered.now_s)
        begin, end = bar_span(heard(), "3") or (0, 0)
        self.assertAlmostEqual(end - begin, 4 * 60 / 92, delta=0.2)
        self.assertIsNone(bar_span(heard(), "99"))
        last = bar_span(heard(), "8")
        self.assertTrue(last and last[1] > last[0])


class PairTests(SimpleTestCase):
    def test_the_steadier_take_is_told_and_alike_ones_are_called_so(self):
        late = replace(
            heard(),
            notes=tuple(replace(n, early_late_ms=(n.early_late_ms or 0) + 40 * (-1) ** k) for k, n in enumerate(heard().notes or ())),
        )
        told = {t.question.slug: t for t in tell(late, heard())}
        self.assertEqual(told["steadier"].better, 1)
        self.assertEqual({t.question.slug: t.better for t in tell(heard(), late)}["steadier"], 0)
        self.assertEqual({t.better for t in tell(heard(), heard())}, {None})
        self.assertEqual(set(told), {"steadier", "in_tune", "notes"})

    def test_what_one_of_them_cannot_tell_is_not_asked(self):
        self.assertEqual([t.question.slug for t in tell(heard(), heard(stage="first_reading"))], ["in_tune", "notes"])
        few = replace(heard(), notes=(heard().notes or ())[:5])
        self.assertEqual(tell(few, heard()), ())

    def test_a_wrong_note_more_is_a_difference(self):
        notes = list(heard().notes or ())
        notes[4] = replace(notes[4], status=Status.WRONG_PITCH)
        told = {t.question.slug: t.better for t in tell(replace(heard(), notes=tuple(notes)), heard())}
        self.assertEqual(told["notes"], 1)
