"""What pages show: progress that ends, marks over htmx and without it, papers, messages, bars at a glance."""

from __future__ import annotations

import io
import re
import tempfile
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.core.management import call_command
from django.test import SimpleTestCase, TestCase, override_settings
from django.urls import reverse
from procrastinate.contrib.django.models import ProcrastinateJob

from didactor.assignments.models import StudentSees
from didactor.core.formats.glance import BarCell
from didactor.demo import scenario
from didactor.demo.management.commands import load_demo
from didactor.people.models import Person
from didactor.review.services import open_review
from didactor.takes.models import Take
from didactor.takes.services import submit_take
from didactor.takes.strips import BarStrip
from tests import scene as scenes
from tests.music import wav

BACKEND = "didactor.people.backends.PasswordBackend"
HTMX = {"HX-Request": "true"}


class StudentPagesTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)

    def setUp(self):
        self.client.force_login(self.scene.ylva.student, backend=BACKEND)

    def sees(self, what: str) -> str:
        self.scene.assignment.students_see = what
        self.scene.assignment.save()
        take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        return self.client.get(reverse("stand:take", args=[take.pk])).content.decode()

    def test_progress_is_told_and_stops_when_it_is_settled(self):
        take = scenes.recorded(self.scene, hear=False)
        url = reverse("stand:status_fragment", args=[take.pk])
        self.assertIn("hx-get", self.client.get(reverse("stand:take", args=[take.pk])).content.decode())
        self.assertContains(self.client.get(url), "stored")
        for step, words in (
            ("listening", "Opening"),
            ("hearing", "Hearing the notes"),
            ("judging", "Judging"),
        ):
            Take.objects.filter(pk=take.pk).update(state="analysing", step=step)
            response = self.client.get(url)
            self.assertContains(response, words)
            self.assertNotIn("HX-Location", response)
        Take.objects.filter(pk=take.pk).update(state="analysed")
        response = self.client.get(url)
        self.assertNotContains(response, "hx-trigger")
        self.assertIn(reverse("stand:take", args=[take.pk]), response["HX-Location"])

    def test_who_waits_behind_others_is_told_and_asks_less_often(self):
        others = [scenes.recorded_by(scenes.another(self.scene, f"Before {k}"), wav(seed=k)) for k in range(2)]
        take = scenes.recorded(self.scene, hear=False)
        jobs = ProcrastinateJob.objects.filter(task_name="didactor.takes.jobs.analyse_take")
        own = jobs.get(args__take_id=take.pk)
        jobs.filter(args__take_id=others[0].pk).update(priority=own.priority)
        jobs.filter(args__take_id=others[1].pk).update(priority=own.priority - 1)
        url = reverse("stand:status_fragment", args=[take.pk])
        self.assertContains(self.client.get(url), "1 other is heard before it")
        self.assertContains(self.client.get(url), "delay:1100ms")
        self.assertContains(self.client.get(reverse("stand:take", args=[take.pk])), "delay:1100ms")
        jobs.filter(args__take_id=others[1].pk).update(priority=own.priority + 1)
        self.assertContains(self.client.get(url), "2 others are heard before it")
        jobs.filter(pk=own.pk).update(status="doing")
        self.assertContains(self.client.get(url), "waits to be heard")
        self.assertContains(self.client.get(url), "delay:700ms")
        jobs.filter(pk=own.pk).update(status="todo")
        with mock.patch("didactor.takes.turn.EACH_MS", 40_000):
            self.assertContains(self.client.get(url), "delay:20000ms")
        Take.objects.filter(pk=take.pk).update(state="analysing", step="hearing")
        self.assertContains(self.client.get(url), "delay:700ms")

    def test_the_teacher_decides_whether_a_student_sees_marks_or_figures(self):
        remarks = self.sees(StudentSees.REMARKS)
        self.assertNotIn("G is played", remarks)
        self.assertNotIn("note by note", remarks)
        marks = self.sees(StudentSees.MARKS)
        self.assertIn("G is played", marks)
        self.assertNotIn("Played at", marks)
        figures = self.sees(StudentSees.FIGURES)
        self.assertIn("Played at 92", figures)
        self.assertIn("note by note", figures)

    def test_a_failed_take_says_that_it_is_safe(self):
        take = scenes.recorded(self.scene, hear=False)
        Take.objects.filter(pk=take.pk).update(state="failed", trouble="Something went wrong on our side. The recording is safe.")
        self.assertContains(self.client.get(reverse("stand:take", args=[take.pk])), "The recording is safe")

    def test_the_original_comes_back_byte_for_byte(self):
        take = scenes.recorded(self.scene, hear=False)
        response = self.client.get(reverse("takes:original", args=[take.pk]))
        self.assertEqual(b"".join(response.streaming_content), take.original.read())
        self.assertIn(f"take-{take.pk}.wav", response["Content-Disposition"])

    def test_deleting_asks_first(self):
        take = scenes.recorded(self.scene, hear=False)
        url = reverse("stand:delete", args=[take.pk])
        self.assertContains(self.client.get(url), "deleted for good")
        self.assertTrue(Take.objects.filter(pk=take.pk).exists())
        self.assertRedirects(self.client.post(url), reverse("task", args=[take.task_id]))
        self.assertFalse(Take.objects.filter(pk=take.pk).exists())

    def test_paper_is_remembered_and_sends_nobody_elsewhere(self):
        response = self.client.post(reverse("people:choose_paper"), {"paper": "dark", "next": "https://elsewhere.example/"})
        self.assertEqual(response["Location"], "/")
        self.assertContains(self.client.get(reverse("stand:index")), 'data-paper="dark"')


class DeskPagesTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        take = scenes.recorded(cls.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})
        cls.submission = submit_take(take=take)
        cls.review = open_review(submission=cls.submission, teacher=cls.scene.teacher)

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend=BACKEND)

    def url(self, name: str, *more: int) -> str:
        return reverse(f"review:{name}", args=[self.submission.pk, *more])

    def test_marks_answer_htmx_with_the_list_and_forms_with_the_page(self):
        mark = self.review.marks.get()
        response = self.client.post(self.url("decide_mark", mark.pk), {"standing": "kept"}, headers=HTMX)
        self.assertContains(response, 'class="kept"')
        self.assertNotContains(response, "<html")
        self.assertRedirects(self.client.post(self.url("decide_mark", mark.pk), {"standing": "dropped"}), self.url("detail"))
        self.assertContains(self.client.post(self.url("decide_mark", mark.pk), {"standing": "burnt"}, headers=HTMX), "trouble-box")

    def test_a_remark_may_be_pinned_to_a_second(self):
        url = reverse("review:add_remark", args=[self.submission.pk])
        self.client.post(url, {"text": "Here the bow bounces", "category": "tone", "at_s": "12,5"})
        self.client.post(url, {"text": "Everywhere", "category": "tone", "at_s": "soon"})
        marks = {m.text: (m.start_s, m.end_s) for m in self.submission.review.marks.filter(origin="teacher")}
        self.assertEqual(marks, {"Here the bow bounces": (12.5, 14.5), "Everywhere": (None, None)})
        self.assertContains(self.client.get(reverse("review:detail", args=[self.submission.pk])), 'data-hear="12.500"')

    def test_a_remark_needs_words_and_keeps_its_place(self):
        empty = self.client.post(self.url("add_remark"), {"text": " ", "bar": "3"}, headers=HTMX)
        self.assertContains(empty, "Write a few words first")
        self.client.post(self.url("add_remark"), {"text": "Warm.", "bar": "3", "beat": "2", "category": "tone"}, headers=HTMX)
        remark = self.review.marks.get(origin="teacher")
        self.assertEqual((remark.bar, remark.beat, remark.category, remark.standing), ("3", 1.0, "tone", "kept"))

    def test_drafts_are_kept_and_sending_goes_on_to_the_next(self):
        data = {"text": "Half a sentence", "decision": "slower", "decision_tempo": "72,5", "verdict-notes": "mend"}
        self.assertContains(self.client.post(self.url("save_draft"), data), "Draft kept")
        page = self.client.get(self.url("detail")).content.decode()
        self.assertIn("Half a sentence", page)
        self.assertRegex(page, r'name="verdict-notes" value="mend"[^>]*checked')
        self.review.refresh_from_db()
        self.assertEqual((self.review.decision, self.review.decision_tempo), ("slower", 72.5))
        self.assertRedirects(self.client.post(self.url("send"), {**data, "next": "1"}), reverse("review:waiting"))
        self.assertContains(self.client.get(reverse("review:waiting")), "Nothing waits")
        self.assertContains(self.client.post(self.url("save_draft"), data), "sent already")

    def test_empty_rooms_say_what_to_do(self):
        other = scenes.teacher("Empty studio", "nobody")
        self.client.force_login(other, backend=BACKEND)
        for name, words in (
            ("review:waiting", "Bring in a score"),
            ("assignments:index", "Open a score"),
            ("library:index", "The library is empty"),
            ("people:students", "Nobody is here yet"),
        ):
            self.assertContains(self.client.get(reverse(name)), words)


class BarStripTests(SimpleTestCase):
    def test_words_are_escaped(self):
        strip = BarStrip([BarCell(number="1", worst="notes", says=('<b>"loud"</b>',))])
        for written in (strip.as_list, strip.playable):
            self.assertNotIn("<b>", written)
        self.assertEqual(BarStrip().as_list, "")


class StaticFilesTests(SimpleTestCase):
    def test_built_scripts_import_files_that_exist(self):
        with tempfile.TemporaryDirectory() as folder:
            storages = {**settings.STORAGES, "staticfiles": {"BACKEND": "didactor.config.static.ModuleManifestStorage"}}
            with override_settings(STATIC_ROOT=folder, STORAGES=storages):
                call_command("collectstatic", "--noinput", "--ignore", "django_htmx*", verbosity=0)
            built = Path(folder)
            scripts = [p for p in (built / "js").glob("*.js") if re.search(r"\.[0-9a-f]{12}\.js$", p.name)]
            self.assertGreater(len(scripts), 8)
            for script in scripts:
                for target in re.findall(r'from "(\./[^"]+)"', script.read_text()):
                    self.assertTrue((script.parent / target).exists(), f"{script.name}: {target}")
                    self.assertRegex(target, r"\.[0-9a-f]{12}\.js$")
            css = "".join(p.read_text() for p in (built / "css").glob("*.css"))
            self.assertNotRegex(css, r"https?://(?!www\.w3\.org)")


class DemoTests(scenes.OwnFolders, TestCase):
    def test_the_demo_loads_once_through_the_real_pipeline(self):
        chosen = tuple(a for a in scenario.ASSIGNMENTS if a.title == "Barometer")
        with tempfile.TemporaryDirectory() as state, override_settings(STATE=Path(state)):
            read = {"Ylva Tarnholm": ((1, (1, 2, 3)),)}
            with mock.patch.multiple(load_demo, ASSIGNMENTS=chosen, READ_AT_SIGHT=read):
                call_command("load_demo", stdout=io.StringIO())
                call_command("load_demo", stdout=io.StringIO())
            text = (Path(state) / "demo.txt").read_text()
        self.assertEqual(text.count("card "), len(scenario.STUDENTS) + 1)
        self.assertEqual(Take.objects.filter(task__assignment__own_grade__isnull=False).count(), 1)
        take = Take.objects.get(task__assignment__own_grade=None)
        codes = {f["code"] for f in take.latest_analysis.result["findings"]}
        self.assertEqual(codes, {"flow.skipped", "notes.wrong", "tempo.off_target"})
        self.assertTrue(take.is_submitted)
        self.assertTrue(Person.objects.get(name="Ossian Brannagh").consents.exists())
