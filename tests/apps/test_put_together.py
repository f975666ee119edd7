"""A group heard together: only of those who agree, for those who are in it."""

from __future__ import annotations

from django.core.files.storage import default_storage
from django.test import TestCase
from django.urls import reverse

from didactor.people.models import Consent, ConsentKind, Person
from didactor.people.services import record_consent, withdraw_consent
from didactor.progress.services import erase_handed_in
from didactor.takes.jobs import analyse_take, put_takes_together
from didactor.takes.models import Analysis, Submission, Take, Together
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.music import wav


class TogetherScene(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        record_consent(student=cls.scene.ossian.student, given_by="Runa", recorded_by=cls.scene.teacher)
        first = scenes.recorded(cls.scene)
        second = scenes.recorded_by(cls.scene.other_task, wav(seed=8, instrument="violin", tempo=85.0))
        analyse_take(take_id=second.pk)
        cls.takes = [first.pk, second.pk]
        for take in Take.objects.all():
            submit_take(take=take)

    def setUp(self):
        self.client.force_login(self.scene.teacher)

    def agree(self, *people: Person) -> None:
        for person in people or (self.scene.ylva.student, self.scene.ossian.student):
            record_consent(student=person, given_by="x", recorded_by=self.scene.teacher, kind=ConsentKind.TOGETHER)

    def make(self, tempo: str = "90") -> Together | None:
        self.page = self.client.post(
            reverse("progress:make_together", args=[self.scene.assignment.pk]), {"take": self.takes, "tempo": tempo}, follow=True
        )
        return Together.objects.first()

    def hears(self, made: Together, *people: Person) -> list[int]:
        found = []
        for person in people:
            self.client.force_login(person)
            found.append(self.client.get(reverse("takes:together", args=[made.pk])).status_code)
        return found


class MakingTests(TogetherScene):
    def test_put_together_once_and_heard_by_the_teacher_and_those_in_it(self):
        self.agree()
        made = self.make()
        self.assertContains(self.page, "are being put together at 90")
        for _ in range(2):
            put_takes_together(together_id=made.pk)
        made.refresh_from_db()
        self.assertTrue(default_storage.exists(made.sound.name))
        people = (self.scene.teacher, self.scene.ylva.student, self.scene.ossian.student, self.scene.guardian)
        self.assertEqual(self.hears(made, *people, scenes.teacher("Inner dark", "stranger")), [200, 200, 200, 200, 404])
        self.client.force_login(self.scene.ylva.student)
        self.assertContains(self.client.get(reverse("task", args=[self.scene.task.pk])), reverse("takes:together", args=[made.pk]))

    def test_who_has_not_agreed_is_left_out_and_alone_nobody_is_a_band(self):
        self.agree(self.scene.ylva.student)
        self.assertIsNone(self.make())
        self.assertContains(self.page, "Choose two takes at least")

    def test_a_tempo_that_is_none_is_refused(self):
        self.agree()
        for text in ("", "nan", "²", "5000"):
            self.assertIsNone(self.make(text), text)
        self.assertContains(self.page, "Write the tempo as a number")

    def test_too_little_heard_says_so(self):
        self.agree()
        Analysis.objects.filter(take=self.takes[0]).update(moments=[])
        made = self.make()
        put_takes_together(together_id=made.pk)
        made.refresh_from_db()
        self.assertEqual((made.sound.name, made.trouble), ("", "Too little was heard in these takes to put them together."))

    def test_taken_away(self):
        self.agree()
        made = self.make()
        self.client.post(reverse("progress:drop_together", args=[made.pk]))
        self.assertFalse(Together.objects.exists())


class MadeScene(TogetherScene):
    def setUp(self):
        super().setUp()
        self.agree()
        self.made = self.make()
        put_takes_together(together_id=self.made.pk)
        self.made.refresh_from_db()


class WithdrawnTests(MadeScene):
    def test_consent_withdrawn_nobody_hears_it_any_more(self):
        withdraw_consent(student=self.scene.ylva.student, kind=ConsentKind.TOGETHER)
        self.assertEqual(self.hears(self.made, self.scene.teacher, self.scene.ossian.student), [404, 404])


class ErasedTests(MadeScene):
    def test_a_take_that_is_erased_takes_it_along(self):
        name = self.made.sound.name
        with self.captureOnCommitCallbacks(execute=True):
            erase_handed_in(Take.objects.get(pk=self.takes[0]))
        self.assertFalse(Together.objects.exists() or default_storage.exists(name))
        self.assertEqual(Submission.objects.count(), 1)


class AgreeingTests(TogetherScene):
    def agree_as(self, person: Person, task: object, **sent: str):
        self.client.force_login(person)
        return self.client.post(reverse("stand:agree", args=[task.pk]), sent, follow=True)

    def given(self) -> int:
        return Consent.objects.filter(kind=ConsentKind.TOGETHER, withdrawn_at=None).count()

    def test_who_is_of_age_for_themselves_once_and_not_any_more(self):
        for _ in range(2):
            self.agree_as(self.scene.ylva.student, self.scene.task)
        self.assertEqual(self.given(), 1)
        self.agree_as(self.scene.ylva.student, self.scene.task, **{"not": "1"})
        self.assertEqual(self.given(), 0)

    def test_for_a_child_the_guardian(self):
        self.assertContains(self.agree_as(self.scene.ossian.student, self.scene.other_task), "A guardian decides this")
        self.assertEqual(self.given(), 0)
        self.agree_as(self.scene.guardian, self.scene.other_task)
        self.assertEqual(self.given(), 1)
        self.assertEqual(self.agree_as(self.scene.guardian, self.scene.task).status_code, 404, "no ward of hers")

    def test_the_teacher_records_it_for_anybody(self):
        url = reverse("people:student", args=[self.scene.ylva.student_id])
        page = self.client.get(url)
        self.assertContains(page, "Heard together with others")
        self.assertNotContains(page, "Sound recordings")
        self.client.post(url, {"kind": "together", "given_by": "Ylva", "agreed": "on"})
        self.assertEqual(self.given(), 1)
