"""Lines that a student reads at sight by themselves."""

from __future__ import annotations

import io

from django.test import TestCase
from django.urls import reverse

from didactor.assignments.models import Assignment, Task
from didactor.assignments.services import open_sealed
from didactor.core.instruments import BY_SLUG
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate, wav_bytes
from didactor.library.models import Piece
from didactor.library.notation import expectation_of_passage
from didactor.people.services import add_student
from didactor.practice.reading import new_line, reading_of, trouble_of
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Take
from didactor.takes.services import TakeRefused, receive_take, submit_take
from tests import scene as scenes


class OwnReadingTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build()
        self.client.force_login(self.scene.ylva.student)
        self.next = reverse("practice:new_line", args=[self.scene.ylva.pk])
        self.page = reverse("practice:reading", args=[self.scene.ylva.pk])

    def line(self) -> Task:
        self.client.post(self.next)
        return Task.objects.get(pk=reading_of(self.scene.ylva).waiting.pk)

    def read(self, task: Task, *faults: dict) -> Take:

        open_sealed(task)
        music, instrument = expectation_of_passage(task.passage), BY_SLUG[task.enrolment.instrument]
        made = simulate(music, instrument, task.targets.tempo_qpm, faults=list(faults), room="bedroom", seed=task.pk)
        take = receive_take(student=task.student, task=task, source=io.BytesIO(wav_bytes(made.samples, SYNTH_RATE_HZ)), filename="take.wav")
        analyse_take(take_id=take.pk)
        take.refresh_from_db()
        return take

    def test_a_new_line_is_sealed_and_one_that_waits_is_that_one(self):
        task = self.line()
        self.assertTrue(task.is_sealed)
        self.assertRedirects(self.client.post(self.next), reverse("task", args=[task.pk]), fetch_redirect_response=False)
        self.assertEqual(Task.objects.filter(assignment__own_grade__isnull=False).count(), 1)
        self.assertContains(self.client.get(self.page), "Go on to Line 1 at sight")
        self.assertTrue(Piece.objects.get(pk=task.passage.root.revision.piece_id).is_put_away)

    def test_what_was_read_moves_the_grade_and_nothing_is_handed_in(self):
        task = self.line()
        before = task.assignment.own_grade
        take = self.read(task)
        reading = reading_of(self.scene.ylva)
        [line] = reading.lines
        self.assertTrue(line.playable)
        self.assertGreaterEqual(reading.grade, before)
        with self.assertRaises(TakeRefused):
            submit_take(take=take)
        page = self.client.get(reverse("stand:take", args=[take.pk]))
        self.assertNotContains(page, "Submit this take")
        self.assertContains(page, "the next line")
        self.assertContains(self.client.get(self.page), "without a stop")

    def test_what_could_not_be_played_leads_down(self):
        task = self.line()
        # Which line it is depends on the student's number: places are counted, not named.
        count = len(expectation_of_passage(task.passage).notes)
        stops = [{"kind": "hesitation", "note": count * k // 4, "beats": 2.5} for k in (1, 2, 3)]
        self.read(task, *stops)
        reading = reading_of(self.scene.ylva)
        self.assertFalse(reading.lines[0].playable)
        self.assertLess(reading.grade, task.assignment.own_grade)
        self.assertEqual(reading.weeks[0][2:], (0, 1))

    def test_it_stands_in_no_list_of_what_was_given(self):
        task = self.line()
        self.assertNotContains(self.client.get(reverse("stand:index")), str(task.assignment))
        self.assertContains(self.client.get(reverse("stand:index")), "Read at sight")
        self.client.force_login(self.scene.teacher)
        for url in (reverse("assignments:index"), reverse("record", args=[self.scene.ylva.student_id])):
            self.assertNotContains(self.client.get(url), str(task.assignment))
        self.assertContains(self.client.get(self.page), "No line was read yet")
        self.assertNotIn(task.assignment, Assignment.objects.given())

    def test_a_pianist_reads_two_staves_and_in_another_key_the_others_read_their_own(self):
        piano = add_student(studio=self.scene.teacher.studio, name="Nell", instrument="piano", level="intermediate", group_name="")
        task = new_line(student=piano.student, enrolment=piano)
        self.assertEqual(task.passage.part_entry["staves"], 2)
        clarinet = self.line()
        self.assertEqual(clarinet.passage.part_entry["staves"], 1)
        self.assertNotEqual(clarinet.passage_id, clarinet.assignment.passage_id, "written in the clarinet's own key")

    def test_who_reads_no_notes_or_has_no_pitches_is_told_so(self):
        self.scene.ylva.reads_notes = False
        self.scene.ylva.save()
        self.client.post(self.next)
        self.assertContains(self.client.get(self.page), "for those who read notes")
        drum = add_student(studio=self.scene.teacher.studio, name="Hakon", instrument="percussion", level="beginner", group_name="")
        self.client.force_login(drum.student, backend="didactor.people.backends.PasswordBackend")
        self.client.post(reverse("practice:new_line", args=[drum.pk]))
        self.assertContains(self.client.get(reverse("practice:reading", args=[drum.pk])), "no pitches")
        self.assertEqual(self.client.post(self.next).status_code, 404)

    def test_the_trouble_that_comes_back(self):
        self.assertEqual(trouble_of(self.scene.ylva), "")
        scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2})
        self.assertEqual(trouble_of(self.scene.ylva), "notes")
