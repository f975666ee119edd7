"""What an assignment's form takes and what it sends back, with words that say what to change."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.http import QueryDict
from django.test import TestCase
from django.utils import timezone

from didactor.assignments.checklists import LONGEST_ROW, MOST_ROWS
from didactor.assignments.forms import AssignmentForm, ChangeForm, ExceptionForm, as_typed, kept_of
from didactor.assignments.models import Assignment, Metronome, Task, TaskState, WeekNote
from didactor.assignments.parts import FIELD, chosen_parts, part_rows
from didactor.assignments.services import parts_written
from didactor.core.judging.targets import TEMPO_HIGH, TEMPO_LOW
from didactor.library.arrangements import LEAVE_OUT
from didactor.library.models import Engraving
from didactor.library.notation import engravings_of
from didactor.people.services import add_student, leave
from tests import scene as scenes


class FormTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        cls.teacher = cls.scene.teacher

    def data(self, **changed: Any) -> QueryDict:
        kept = {k: v for k, v in kept_of(self.scene.assignment).items() if v not in (None, "", False)}
        fields = {**kept, "title": "A line", "due_at": "2030-01-01T20:00", "enrolments": [self.scene.ylva.pk], **changed}
        sent = QueryDict(mutable=True)
        for name, value in fields.items():
            if value is not None:
                sent.setlist(name, [str(v) for v in value] if isinstance(value, list) else [str(value)])
        return sent

    def form(self, **changed: Any) -> AssignmentForm:
        return AssignmentForm(self.data(**changed), teacher=self.teacher)

    def refused(self, **changed: Any) -> dict[str, str]:
        return {name: str(errors[0]) for name, errors in self.form(**changed).errors.items()}

    def test_the_scene_s_own_fields_are_taken(self):
        self.assertEqual(self.refused(), {})

    def test_a_ladder_rises_within_what_can_be_played_up_to_the_target(self):
        self.assertEqual(self.refused(tempo=92, ladder="52 60, 66"), {})
        self.assertEqual(self.refused(tempo=92, ladder="52 92"), {})
        self.assertEqual(self.form(tempo=92, ladder="52 60,66").is_valid(), True)
        for ladder, words in (
            ("60 52", "A ladder rises"),
            ("60 60", "A ladder rises"),
            (f"{TEMPO_LOW - 1:g} 60", "A ladder rises"),
            (f"60 {TEMPO_HIGH + 1:g}", "A ladder rises"),
            ("60 nan", "A ladder rises"),
            ("sixty", "Write tempi as numbers"),
            ("52 93", "beyond the target"),
        ):
            self.assertIn(words, self.refused(tempo=92, ladder=ladder).get("ladder", ""), ladder)

    def test_a_crossing_is_kept_together_and_a_rule_without_sense_is_refused(self):
        form = self.form(crossing_good=3, crossing_of=5, crossing_counts="all", crossing_bars="3-6", crossing_overnight="on")
        self.assertTrue(form.is_valid(), form.errors)
        kept = form.assignment_fields()["crossing"]
        self.assertEqual(kept, {"good": 3, "of": 5, "counts": "all", "bars": "3-6", "overnight": True})
        self.assertEqual(as_typed({"crossing": kept})["crossing_bars"], "3-6")
        self.assertIn("makes no sense", self.refused(crossing_good=3, crossing_of=2)["crossing_good"])
        for good in (0, 11, "²"):
            self.assertIn("crossing_good", self.refused(crossing_good=good), good)
        self.assertIn("crossing_tempo", self.refused(crossing_tempo="nan"))
        unticked = self.form(crossing_good=2)
        self.assertTrue(unticked.is_valid())
        self.assertEqual(unticked.assignment_fields()["crossing"], {"good": 2, "overnight": False})

    def test_a_range_of_tempi_is_the_right_way_round(self):
        self.assertEqual(self.refused(tempo=80, tempo_to=80), {})
        self.assertIn("below the lower", self.refused(tempo=80, tempo_to=79)["tempo_to"])

    def test_tempi_are_what_a_metronome_has(self):
        for tempo in (TEMPO_LOW - 0.5, TEMPO_HIGH + 0.5, "nan", "²", ""):
            self.assertIn("tempo", self.refused(tempo=tempo, ladder=""), tempo)
        for tempo in (TEMPO_LOW, TEMPO_HIGH):
            self.assertNotIn("tempo", self.refused(tempo=tempo, ladder=""), tempo)

    def test_it_is_due_later_than_now(self):
        def due(minutes: float) -> dict[str, str]:
            return self.refused(due_at=f"{timezone.localtime() + timedelta(minutes=minutes):%Y-%m-%dT%H:%M}")

        self.assertEqual(due(5), {})
        self.assertIn("already passed", due(-5)["due_at"])

    def test_own_rows_are_few_short_and_each_once(self):
        rows = "\n".join(f"Row {k}" for k in range(MOST_ROWS))
        self.assertEqual(self.form(own_rows=f" Thumb  stays under \n\nThumb stays under\n{rows[6:]}").errors.get("own_rows"), None)
        form = self.form(own_rows="  Thumb   stays \n\nThumb stays\n")
        self.assertTrue(form.is_valid())
        self.assertEqual(form.cleaned_data["own_rows"], ["Thumb stays"])
        self.assertIn("own_rows", self.refused(own_rows=f"{rows}\none more"))
        self.assertEqual(self.refused(own_rows="x" * LONGEST_ROW), {})
        self.assertIn("own_rows", self.refused(own_rows="x" * (LONGEST_ROW + 1)))

    def test_somebody_is_chosen_of_one_s_own_studio_who_is_still_here(self):
        other = scenes.teacher("Inner dark", "stranger")
        far = add_student(studio=other.studio, name="Far", instrument="flute", level="beginner")
        gone = add_student(studio=self.teacher.studio, name="Gone", instrument="flute", level="beginner")
        leave(student=gone.student)
        for chosen in ([], [far.pk], [gone.pk]):
            self.assertIn("enrolments", self.refused(enrolments=chosen), chosen)
        form = self.form(enrolments=[self.scene.ylva.pk, self.scene.ylva.pk], group=self.scene.ylva.group_id or "")
        self.assertTrue(form.is_valid())
        self.assertEqual([e.pk for e in form.cleaned_data["chosen"]].count(self.scene.ylva.pk), 1)

    def test_odd_numbers_of_students_and_groups_choose_nobody(self):
        for odd in ("²", "nan", "-1", "9" * 30, "1;drop"):
            form = AssignmentForm(self.data(enrolments=[odd], group=odd), teacher=self.teacher)
            self.assertEqual(form.people(), [], odd)

    def test_the_stage_fills_what_was_left_empty_and_not_what_was_typed(self):
        def fields(**changed: Any) -> dict[str, Any]:
            form = self.form(band_percent=None, takes_allowed=None, preparation_s=None, metronome=None, **changed)
            self.assertEqual(form.errors, {})
            return form.assignment_fields()

        final = fields(stage="final")
        self.assertEqual((final["band_percent"], final["takes_allowed"], final["preparation_s"]), (4.0, 1, None))
        self.assertEqual((final["metronome"], final["step"], final["ritardando_beats"]), (Metronome.ALLOWED, "play", 0.0))
        sealed = fields(stage="sight_reading")
        self.assertGreater(sealed["preparation_s"], 0)
        self.assertEqual(fields(stage="sight_reading", step="listen")["preparation_s"], None)
        form = self.form(stage="final", band_percent=7, takes_allowed=3, preparation_s=0)
        self.assertTrue(form.is_valid())
        typed = form.assignment_fields()
        self.assertEqual((typed["band_percent"], typed["takes_allowed"], typed["preparation_s"]), (7.0, 3, None))

    def test_a_change_keeps_who_has_it_and_may_leave_a_passed_date(self):
        form = ChangeForm(self.data(version=1, due_at="2020-01-01T20:00", enrolments=None), teacher=self.teacher)
        self.assertEqual(form.errors, {})
        self.assertNotIn("enrolments", form.fields)
        twisted = ChangeForm(self.data(version=1, tempo=80, tempo_to=70), teacher=self.teacher)
        self.assertIn("tempo_to", twisted.errors)

    def test_an_exception_lies_ahead_and_is_playable(self):
        form = ExceptionForm({"tempo": "60,5", "due_at": "2030-01-01T20:00"})
        self.assertTrue(form.is_valid())
        self.assertEqual(form.cleaned_data["tempo"], 60.5)
        self.assertTrue(ExceptionForm({}).is_valid())
        self.assertIn("due_at", ExceptionForm({"due_at": "2020-01-01T20:00"}).errors)
        for tempo in (TEMPO_LOW - 1, TEMPO_HIGH + 1, "inf"):
            self.assertIn("tempo", ExceptionForm({"tempo": tempo}).errors)

    def test_what_is_kept_is_typed_again_as_it_was(self):
        self.assertEqual(
            as_typed({"ladder": [52.0, 60.5], "own_rows": ["a", "b"], "tempo": 92.0}),
            {"ladder": "52 60.5", "own_rows": "a\nb", "tempo": 92.0},
        )
        self.assertEqual(as_typed({}), {"ladder": "", "own_rows": ""})


class SeenTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        cls.other = scenes.teacher("Inner dark", "stranger")

    def test_tasks_are_seen_by_the_studio_the_student_and_the_guardian(self):
        mine, ossians = self.scene.task, self.scene.other_task
        seen = {
            who: set(Task.objects.visible_to(person).values_list("pk", flat=True))
            for who, person in (
                ("teacher", self.scene.teacher),
                ("ylva", self.scene.ylva.student),
                ("guardian", self.scene.guardian),
                ("stranger", self.other),
            )
        }
        self.assertEqual(seen, {"teacher": {mine.pk, ossians.pk}, "ylva": {mine.pk}, "guardian": {ossians.pk}, "stranger": set()})
        self.assertEqual(list(Assignment.objects.visible_to(self.scene.ylva.student)), [])
        self.assertEqual(list(Assignment.objects.visible_to(self.scene.teacher)), [self.scene.assignment])

    def test_what_is_withdrawn_is_hidden_until_something_of_it_was_handed_in(self):
        task, ylva = self.scene.task, self.scene.ylva.student
        for state, hidden in ((TaskState.OPEN, True), (TaskState.IN_WORK, True), (TaskState.HANDED_IN, False), (TaskState.PASSED, False)):
            Task.objects.filter(pk=task.pk).update(withdrawn_at=timezone.now(), state=state)
            self.assertEqual(Task.objects.visible_to(ylva).exists(), not hidden, state)
            self.assertTrue(Task.objects.visible_to(self.scene.teacher).filter(pk=task.pk).exists())

    def test_progress_counts_each_state_once(self):
        Task.objects.filter(pk=self.scene.task.pk).update(state=TaskState.HANDED_IN)
        Task.objects.filter(pk=self.scene.other_task.pk).update(withdrawn_at=timezone.now())
        counted = Assignment.objects.with_progress().get()
        names = ("task_count", "open_count", "withdrawn_count", "handed_in_count", "answered_count", "passed_count")
        self.assertEqual([getattr(counted, name) for name in names], [1, 0, 1, 1, 0, 0])

    def test_a_note_of_the_week_is_for_everybody_or_for_its_group(self):
        ylva, teacher = self.scene.ylva, self.scene.teacher
        stranger = add_student(studio=teacher.studio, name="Alone", instrument="flute", level="beginner").student
        make = WeekNote.objects.create
        common = {"studio": teacher.studio, "monday": timezone.localdate(), "written_by": teacher}
        everybody = make(text="All", **common)
        group = ylva.group or self.scene.ossian.group
        one = make(text="One group", group=group, **common)
        in_it = group.enrolments.first().student
        self.assertEqual(set(WeekNote.objects.visible_to(teacher)), {everybody, one})
        self.assertEqual(set(WeekNote.objects.visible_to(in_it)), {everybody, one})
        self.assertEqual(set(WeekNote.objects.visible_to(stranger)), {everybody})
        self.assertEqual(set(WeekNote.objects.visible_to(self.other)), set())


class PartTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        add = add_student
        studio = cls.scene.teacher.studio
        cls.band = [
            add(studio=studio, name=f"{instrument} {k}", instrument=instrument, level="intermediate")
            for instrument in ("trumpet", "tuba")
            for k in range(2)
        ]

    def test_one_row_an_instrument_and_level_and_those_that_do_not_fit_first(self):
        rows = part_rows(self.scene.passage, self.band, {})
        self.assertEqual(sorted(row.students for row in rows), ["trumpet 0, trumpet 1", "tuba 0, tuba 1"])
        self.assertEqual([row.fits for row in rows], sorted(row.fits for row in rows))
        self.assertEqual({row.chosen for row in rows}, {row.part.offers[0].value for row in rows})

    def test_what_was_chosen_is_believed_where_it_is_an_offer(self):
        [row] = part_rows(self.scene.passage, self.band[:2], {})
        name = f"{FIELD}trumpet-intermediate"
        for sent, chosen in (
            (row.part.offers[-1].value, row.part.offers[-1].value),
            (LEAVE_OUT, LEAVE_OUT),
            ("nonsense", row.part.offers[0].value),
        ):
            found = chosen_parts(self.scene.passage, self.band[:2], {name: sent})
            self.assertEqual(found, {e.pk: chosen for e in self.band[:2]}, sent)

    def test_parts_are_written_when_each_is_drawn(self):
        Engraving.objects.all().delete()
        none = parts_written(self.scene.assignment)
        self.assertEqual((none.done, none.is_done), (0, False))
        for task in self.scene.assignment.tasks.all():
            engravings_of(revision=task.passage.revision, part=task.passage.part, bars=task.passage.bars)
        every = parts_written(self.scene.assignment)
        self.assertEqual((every.done, every.is_done), (none.of, True))
