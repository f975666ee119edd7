"""To whom a recording was given out is kept, and told to whose it is."""

from __future__ import annotations

from django.core.cache import cache
from django.core.files.base import ContentFile
from django.test import TestCase
from django.urls import reverse

from didactor.people.models import Person
from didactor.people.services import add_guardian
from didactor.takes.models import Delivery, Take, Together
from didactor.takes.services import submit_take
from tests import scene as scenes

BACKEND = "didactor.people.backends.PasswordBackend"


class DeliveryTests(scenes.OwnFolders, TestCase):
    def setUp(self) -> None:
        cache.clear()
        self.scene = scenes.build(listen_first=False)
        self.take = scenes.recorded(self.scene)
        submit_take(take=Take.objects.get(pk=self.take.pk))

    def asks(self, person: Person, name: str = "sound", **headers: str) -> int:
        self.client.force_login(person, backend=BACKEND)
        return self.client.get(reverse(f"takes:{name}", args=[self.take.pk]), headers=headers).status_code

    def given(self) -> list[str]:
        return list(Delivery.objects.order_by("person__name").values_list("person__name", flat=True))

    def test_the_teacher_and_a_guardian_are_kept_once_a_day_the_student_not(self):
        nora = add_guardian(student=self.scene.ylva.student, name="Nora")
        for person in (self.scene.ylva.student, self.scene.teacher, nora):
            self.assertEqual(self.asks(person), 200)
            self.assertEqual(self.asks(person, Range="bytes=0-99"), 206)
        self.assertEqual(self.asks(self.scene.teacher, "original"), 200)
        cache.clear()
        self.asks(nora)
        self.assertEqual(self.given(), ["Hedda", "Nora"])
        self.client.force_login(self.scene.ylva.student, backend=BACKEND)
        page = self.client.get(reverse("stand:take", args=[self.take.pk]))
        self.assertContains(page, "Who had this recording")
        self.assertContains(page, "<li>Nora", count=1)

    def test_who_may_not_have_it_is_not_kept(self):
        self.assertEqual(self.asks(scenes.teacher("Elsewhere", "elsa")), 404)
        self.assertEqual(self.asks(self.scene.ossian.student), 404)
        self.assertEqual(self.given(), [])
        self.client.force_login(self.scene.ylva.student, backend=BACKEND)
        self.assertNotContains(self.client.get(reverse("stand:take", args=[self.take.pk])), "Who had this recording")

    def test_all_together_is_a_recording_of_each(self):
        made = Together.objects.create(assignment=self.scene.assignment, tempo=92, made_by=self.scene.teacher)
        made.takes.set([self.take])
        made.sound.save("all.mp3", ContentFile(b"together"))
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        Person.objects.get(pk=self.scene.ylva.student_id).consents.create(
            kind="together", given_by="Ylva", wording="Together", recorded_by=self.scene.ylva.student
        )
        self.assertEqual(self.client.get(reverse("takes:together", args=[made.pk])).status_code, 200)
        self.assertEqual(self.given(), ["Hedda"])
