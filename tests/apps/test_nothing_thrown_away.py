"""What somebody typed survives a conflict and a refusal; one bad file stops no other; answers in words reach the desk."""

from __future__ import annotations

from urllib.parse import urlencode

from django.core.files.uploadedfile import SimpleUploadedFile
from django.http import QueryDict
from django.test import TestCase
from django.urls import reverse

from didactor.assignments.forms import AssignmentForm, as_typed, kept_of
from didactor.assignments.models import Assignment, Task
from didactor.core.errors import PassageError
from didactor.core.score.generate.exercise import Variation
from didactor.library.desk import notes_of
from didactor.library.models import Import, Passage
from didactor.review.models import Review
from didactor.takes.models import SelfMark, Take
from tests import scene as scenes
from tests.music import musicxml

BACKEND = "didactor.people.backends.PasswordBackend"


def form_of(assignment: Assignment, **changed: object) -> dict[str, object]:
    """The fields of the change form as they stand, some of them changed."""
    fields = {
        "title": assignment.title,
        "beat_unit": assignment.beat_unit,
        "tempo": assignment.tempo,
        "stage": assignment.stage,
        "step": assignment.step,
        "count_off": assignment.count_off,
        "due_at": assignment.due_at.strftime("%Y-%m-%dT%H:%M"),
        "checklist": assignment.checklist,
        "students_see": assignment.students_see,
        "instructions": assignment.instructions,
        "version": assignment.version,
    }
    return {**fields, **changed}


class ConflictTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend=BACKEND)

    def test_two_tabs_on_an_assignment_keep_the_words_of_both(self):
        assignment = self.scene.assignment
        url = reverse("assignments:change", args=[assignment.pk])
        self.assertEqual(self.client.post(url, form_of(assignment, tempo=66)).status_code, 302)
        page = self.client.post(url, form_of(assignment, tempo=72, instructions="Mind the leap."))
        self.assertEqual(page.status_code, 409)
        self.assertContains(page, "Mind the leap.", status_code=409)
        self.assertContains(page, 'value="72"', status_code=409)
        self.assertContains(page, "Stands there now: 66", status_code=409)
        self.assertContains(page, "Stands there now", count=2, status_code=409)  # tempo and words, nothing else
        assignment.refresh_from_db()
        self.assertEqual(assignment.tempo, 66)
        # The page carries the new version: keeping it again puts it in place.
        self.assertEqual(self.client.post(url, form_of(assignment, tempo=72)).status_code, 302)
        assignment.refresh_from_db()
        self.assertEqual(assignment.tempo, 72)

    def passage_form(self, name: str, **fields: object):
        passage = self.scene.passage
        return self.client.post(reverse(f"library:{name}", args=[passage.pk]), {"version": passage.version, **fields})

    def test_refused_fields_of_the_passage_desk_keep_what_was_typed(self):
        cases = (
            ("passage_segments", {"segments": "1-4 3-99"}, 'value="1-4 3-99"'),
            ("passage_accompaniment", {"part": "0", "intro_bars": "two"}, 'value="two"'),
            ("passage_pins", {"bar": "99", "text": "pairs limp here"}, 'value="pairs limp here"'),
            ("passage_model", {"tempo": "9000"}, 'value="9000"'),
        )
        for name, fields, kept in cases:
            with self.subTest(name=name):
                page = self.passage_form(name, **fields)
                self.assertEqual(page.status_code, 422)
                if name != "passage_accompaniment":  # the scene's piece has one part: the field is not shown
                    self.assertContains(page, kept, status_code=422)
                self.assertContains(page, 'class="message error"', status_code=422)

    def test_a_conflict_on_the_passage_desk_keeps_what_was_typed(self):
        self.assertEqual(self.passage_form("passage_segments", segments="1-4 5-8").status_code, 302)
        page = self.passage_form("passage_segments", segments="1-2 3-8")
        self.assertContains(page, 'value="1-2 3-8"', status_code=409)
        now = Passage.objects.get(pk=self.scene.passage.pk)
        self.assertContains(page, f'name="version" value="{now.version}"', status_code=409)
        self.assertEqual(now.segments, ["1-4", "5-8"])

    def test_a_conflict_over_a_note_keeps_what_was_typed(self):
        note_id = next(iter(notes_of(self.scene.passage)))
        url = reverse("library:passage_note", args=[self.scene.passage.pk])
        form = {"note": note_id, "version": self.scene.passage.version, "fingering": "2", "warning": "thumb"}
        htmx = {"HX-Request": "true"}
        self.assertEqual(self.client.post(url, form, headers=htmx).status_code, 200)
        page = self.client.post(url, {**form, "warning": "mind the thumb", "optional": "on"}, headers=htmx)
        self.assertContains(page, 'value="mind the thumb"')
        self.assertContains(page, 'name="optional" checked')
        now = Passage.objects.get(pk=self.scene.passage.pk)
        self.assertContains(page, f'name="version" value="{now.version}"')

    def test_one_empty_file_among_many_is_named_and_the_rest_goes_in(self):
        good = SimpleUploadedFile("good.musicxml", musicxml("C4:q E4:q G4:h | C5:w", fifths=0))
        empty = SimpleUploadedFile("empty.musicxml", b"")
        page = self.client.post(reverse("library:upload"), {"score": [good, empty]})
        batch = Import.objects.latest("pk")
        self.assertRedirects(page, reverse("library:import", args=[batch.pk]))
        self.assertEqual(sorted(batch.files.values_list("filename", flat=True)), ["empty.musicxml", "good.musicxml"])
        alone = self.client.post(reverse("library:upload"), {"score": SimpleUploadedFile("empty.musicxml", b"")})
        self.assertContains(alone, "empty")

    def test_a_rhythm_that_fits_hardly_any_note_is_refused(self):
        notes = (("C4", "1"),) * 7 + (("G4", "4"),)
        with self.assertRaises(PassageError) as caught:
            Variation(notes=notes, pattern="q q")
        self.assertIn("1 of the melody’s 8 notes", caught.exception.message)
        Variation(notes=notes, pattern="e e")
        Variation(notes=notes[:2] + notes[-1:], pattern="q q")


class ListeningAndPictureTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(step="listen", question="Which bars are alike?")

    def sign_in(self, person):
        self.client.force_login(person, backend=BACKEND)

    def test_an_answer_in_words_reaches_the_desk_and_words_come_back(self):
        task = self.scene.task
        self.sign_in(self.scene.ylva.student)
        self.client.post(reverse("stand:answer", args=[task.pk]), {"answer": "Two and six."})
        self.sign_in(self.scene.teacher)
        desk = self.client.get(reverse("review:waiting"))
        self.assertContains(desk, "Two and six.")
        self.assertContains(desk, 'aria-label="1 waiting"')
        url = reverse("review:decide_words", args=[task.pk])
        self.client.post(url, {"passed": "0", "reply": "Listen to bar 5 as well."})
        self.assertNotContains(self.client.get(reverse("review:waiting")), "Two and six.")
        self.sign_in(self.scene.ylva.student)
        page = self.client.get(reverse("task", args=[task.pk]))
        self.assertContains(page, "Listen to bar 5 as well.")
        self.assertContains(page, "Two and six.</textarea>")
        self.client.post(reverse("stand:answer", args=[task.pk]), {"answer": "Two, five and six."})
        self.sign_in(self.scene.teacher)
        self.client.post(url, {"passed": "1", "reply": "Yes!"})
        page = self.client.post(url, {"passed": "0", "reply": "Too late"}, follow=True)
        self.assertContains(page, "was decided on already")
        task = Task.objects.get(pk=task.pk)
        self.assertEqual((task.state, task.reply, task.answer), ("passed", "Yes!", "Two, five and six."))


class ChecklistTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(own_rows=["Thumb under", "Breathe early"], must_show=["hands"])

    def setUp(self):
        self.take = scenes.recorded(self.scene)

    def sign_in(self, person):
        self.client.force_login(person, backend=BACKEND)

    def test_own_rows_go_from_the_form_to_the_student_the_desk_and_the_answer(self):
        self.sign_in(self.scene.ylva.student)
        page = self.client.get(reverse("stand:take", args=[self.take.pk]))
        self.assertContains(page, 'name="verdict-own:Thumb under"')
        sent = {"verdict-own:Thumb under": "mend", "verdict-notes": "good", "verdict-own:Never asked": "mend", "work_on": "thumb"}
        self.client.post(reverse("stand:mark", args=[self.take.pk]), sent)
        marks = {m.row: m.verdict for m in SelfMark.objects.filter(self_review__take=self.take)}
        self.assertEqual(marks, {"own:Thumb under": "mend", "notes": "good"})
        self.client.post(reverse("stand:submit", args=[self.take.pk]))
        self.sign_in(self.scene.teacher)
        submission = self.take.submission
        desk = self.client.get(reverse("review:detail", args=[submission.pk]))
        self.assertContains(desk, 'Thumb under <span class="own-mend"')
        answer = {"verdict-own:Thumb under": "good", "verdict-own:Never asked": "good", "decision": "passed", "text": "Well done."}
        self.client.post(reverse("review:send", args=[submission.pk]), answer)
        review = Review.objects.get(submission=submission)
        self.assertEqual((review.checklist, review.good), ({"own:Thumb under": "good"}, ["Thumb under"]))

    def test_own_rows_are_kept_in_templates_and_bounded(self):
        self.assertEqual(kept_of(self.scene.assignment)["own_rows"], "Thumb under\nBreathe early")
        self.assertEqual(as_typed({"own_rows": ["a"], "ladder": [52.0, 60.0]}), {"own_rows": "a", "ladder": "52 60"})
        for text, rows in (("a\n\n a \nb c", ["a", "b c"]), ("\n".join("abcdefg"), None), ("x" * 61, None), ("x" * 60, ["x" * 60])):
            form = AssignmentForm(QueryDict(urlencode({"own_rows": text})), teacher=self.scene.teacher)
            form.is_valid()
            self.assertEqual(form.cleaned_data.get("own_rows"), rows)

    def test_a_list_with_pictures_is_short(self):
        assignment = self.scene.assignment
        assignment.with_pictures = True
        assignment.save()
        self.sign_in(self.scene.ylva.student)
        page = self.client.get(reverse("stand:take", args=[self.take.pk]))
        self.assertContains(page, 'class="picture"', count=6)  # four at most, and the teacher's two
        self.assertContains(page, "A steady beat")
        self.assertContains(page, "Thumb under")
        self.assertNotContains(page, "Intonation")

    def test_sound_alone_says_that_a_picture_was_asked_for(self):
        self.assertIs(Take.objects.get(pk=self.take.pk).has_picture, False)
        self.sign_in(self.scene.ylva.student)
        url = reverse("stand:take", args=[self.take.pk])
        self.assertContains(self.client.get(url), "this take has sound alone")
        Take.objects.filter(pk=self.take.pk).update(has_picture=True)
        self.assertNotContains(self.client.get(url), "this take has sound alone")
        Assignment.objects.update(must_show=[])
        Take.objects.filter(pk=self.take.pk).update(has_picture=False)
        self.assertNotContains(self.client.get(url), "this take has sound alone")
