"""Scores into the library, passages cut, work assigned; people, cards and consent."""

from __future__ import annotations

import io
from datetime import timedelta

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Assignment
from didactor.library.jobs import render_model
from didactor.library.models import ModelSound, Passage, Piece
from didactor.people.models import Person, SignInCard
from didactor.people.services import make_card
from tests import scene as scenes
from tests.music import musicxml


def file(data: bytes, name: str) -> io.BytesIO:
    result = io.BytesIO(data)
    result.name = name
    return result


class LibraryTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")

    def test_a_score_comes_in_and_goes_out_byte_for_byte(self):
        data = musicxml("C4:q E4:q G4:h | C5:w", fifths=0)
        self.client.post(reverse("library:upload"), {"score": file(data, "my-song.musicxml")})
        piece = Piece.objects.get(title="Test tune", revisions__filename="my-song.musicxml")
        response = self.client.get(reverse("library:original", args=[piece.pk]))
        self.assertEqual(b"".join(response.streaming_content), data)

    def test_a_bad_file_gets_a_sentence_and_stores_nothing(self):
        before = Piece.objects.count()
        for data, words in ((b"hello", "no notation that can be read"), (b"<!DOCTYPE a [<!ENTITY x 'y'>]><score-partwise/>", "entities")):
            response = self.client.post(reverse("library:upload"), {"score": file(data, "a.musicxml")})
            self.assertContains(response, words)
        self.assertEqual(Piece.objects.count(), before)

    def test_a_corrected_file_is_a_new_version_and_passages_keep_theirs(self):
        piece, passage = self.scene.passage.revision.piece, self.scene.passage
        url = reverse("library:new_version", args=[piece.pk])
        self.assertContains(self.client.post(url, {"score": file(b"hello", "a.musicxml")}), "no notation that can be read")
        self.assertEqual(piece.current.number, 1)
        corrected = musicxml("C4:q E4:q G4:h | C5:w", fifths=0)
        page = self.client.post(url, {"score": file(corrected, "better.musicxml")}, follow=True)
        self.assertContains(page, "version 2")
        self.assertContains(page, "from version 1")
        self.assertEqual(passage.revision.piece.current.number, 2)
        passage.refresh_from_db()
        self.assertEqual(passage.revision.number, 1)
        self.client.post(reverse("library:piece", args=[piece.pk]), {"part": 1, "bars": "1-2"})
        self.assertEqual(Passage.objects.first().revision.number, 2)
        response = self.client.get(reverse("library:original", args=[piece.pk]))
        self.assertEqual(b"".join(response.streaming_content), corrected)

    def test_a_piece_is_put_away_and_taken_back(self):
        piece = self.scene.passage.revision.piece
        url, index = reverse("library:put_away", args=[piece.pk]), reverse("library:index")
        link = f'href="{reverse("library:piece", args=[piece.pk])}"'
        self.assertNotContains(self.client.post(url, follow=True), link)
        self.assertContains(self.client.get(f"{index}?put_away=on"), link)
        # What was given out is not touched.
        self.client.force_login(self.scene.ylva.student, backend="didactor.people.backends.PasswordBackend")
        self.assertEqual(self.client.get(reverse("task", args=[self.scene.task.pk])).status_code, 200)
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        self.assertContains(self.client.post(url, follow=True), link)

    def test_a_passage_is_cut_by_typing_and_wrong_bars_are_named(self):
        url = reverse("library:piece", args=[self.scene.passage.revision.piece_id])
        self.assertContains(self.client.post(url, {"part": 1, "bars": "5-40"}), "There is no bar 40")
        self.assertContains(self.client.post(url, {"part": 1, "bars": "1-2", "order": "1-2 7"}), "not in the passage")
        self.client.post(url, {"part": 1, "bars": "2–4"})
        self.assertEqual(Passage.objects.first().bars, "2-4")

    def test_assigning_to_a_group_and_the_stage_gives_its_defaults(self):
        data = {
            "title": "Tune", "beat_unit": "quarter", "tempo": "90", "stage": "final", "count_off": "4",
            "due_at": (timezone.localtime() + timedelta(days=2)).strftime("%Y-%m-%dT%H:%M"),
            "checklist": ["notes", "rhythm"], "students_see": "marks", "group": self.scene.ylva.group_id,
        }  # fmt: skip
        url = f"{reverse('assign')}?passage={self.scene.passage.pk}"
        self.client.post(url, data)
        assignment = Assignment.objects.get(title="Tune")
        self.assertEqual((assignment.band_percent, assignment.takes_allowed, assignment.tasks.count()), (4.0, 1, 1))
        for change, words in (
            ({"group": ""}, "Choose a group"),
            ({"due_at": "2020-01-01T10:00"}, "already passed"),
            ({"tempo_to": "80"}, "below the lower"),
            ({"tempo": "9000"}, "less than or equal"),
        ):
            self.assertContains(self.client.post(url, {**data, **change}), words)
        self.assertEqual(Assignment.objects.filter(title="Tune").count(), 1)

    def test_the_model_is_rendered_where_it_is_to_lead(self):
        sounds = ModelSound.objects.filter(passage=self.scene.task.passage, instrument="clarinet")
        self.assertEqual([s.tempo_qpm for s in sounds], [92.0])
        render_model(model_sound_id=sounds[0].pk)
        render_model(model_sound_id=sounds[0].pk)
        self.assertGreater(ModelSound.objects.get(pk=sounds[0].pk).sound.size, 10_000)


class PeopleTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()

    def test_a_card_signs_in_by_code_and_by_link_and_a_new_one_replaces_it(self):
        student = self.scene.ylva.student
        old = make_card(student)
        code = make_card(student)
        self.assertFalse(SignInCard.objects.filter(code_hash=code).exists())
        self.client.post(reverse("people:sign_in"), {"card-code": f" {code.upper()} "})
        self.assertContains(self.client.get(reverse("stand:index")), "Test tune")
        self.client.post(reverse("people:sign_out"))
        self.assertEqual(self.client.get(reverse("people:open_card", args=[old])).status_code, 404)
        page = self.client.get(reverse("people:open_card", args=[code]))
        self.assertContains(page, "Are you Ylva?")
        self.assertEqual(self.client.get("/").status_code, 302, "opening the link alone must not sign in")
        self.client.post(reverse("people:open_card", args=[code]))
        self.assertEqual(self.client.get(reverse("stand:index")).status_code, 200)

    def test_adding_a_student_makes_cards_for_child_and_guardian(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        data = {"name": "Tobin", "instrument": "horn", "level": "beginner", "group": "Ferry", "is_minor": "on", "guardian": "Wenna"}
        page = self.client.post(reverse("people:add_student"), data).content.decode()
        self.assertEqual(page.count('class="code"'), 2)
        tobin = Person.objects.get(name="Tobin")
        self.assertTrue(tobin.consent_missing)
        self.client.post(reverse("people:student", args=[tobin.pk]), {"given_by": "Wenna", "agreed": "on"})
        self.assertFalse(Person.objects.get(pk=tobin.pk).consent_missing)
        self.client.post(reverse("people:student", args=[tobin.pk]), {"instrument": "flute", "level": "beginner", "group": "Ferry"})
        self.assertEqual(tobin.enrolments.count(), 2)
        self.client.post(reverse("people:withdraw_consent", args=[tobin.pk]))
        self.assertTrue(Person.objects.get(pk=tobin.pk).consent_missing)

    def test_a_student_who_has_left_cannot_sign_in(self):
        student = self.scene.ylva.student
        code = make_card(student)
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        self.client.post(reverse("people:leave", args=[student.pk]))
        self.client.logout()
        self.assertContains(self.client.post(reverse("people:sign_in"), {"card-code": code}), "No card has this code")
