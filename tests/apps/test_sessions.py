"""Where one is signed in, ended one by one; the studio handed on."""

from __future__ import annotations

from datetime import timedelta

from django.test import Client, TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.people.models import Person, SignedIn
from didactor.people.sessions import device_in_words, sessions_of
from didactor.takes.jobs import discard_uploads
from tests import scene as scenes

FIREFOX = "Mozilla/5.0 (Android 14; Mobile; rv:131.0) Gecko/131.0 Firefox/131.0"
PASSWORD = "lantern room log"


class SignedInScene(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        cls.teacher = cls.scene.teacher
        cls.teacher.set_password(PASSWORD)
        cls.teacher.is_owner = True
        cls.teacher.save()

    def signed_in(self, agent: str = FIREFOX) -> Client:
        client = self.client_class(headers={"User-Agent": agent})
        client.post(reverse("people:sign_in"), {"teacher-username": self.teacher.username, "teacher-password": PASSWORD})
        return client


class SessionTests(SignedInScene):
    def test_each_is_listed_with_its_device_and_ended_by_itself(self):
        here, there = self.signed_in(), self.signed_in("strange thing")
        page = here.get(reverse("people:account"))
        self.assertContains(page, "Firefox Mobile, Android")
        self.assertContains(page, "this one", count=1)
        self.assertContains(page, "Sign out there", count=1)
        for row in SignedIn.objects.all():
            self.assertNotContains(page, row.session_key)
        other = next(row for row in sessions_of(self.teacher) if row.session_key == there.session.session_key)
        here.post(reverse("people:end_session"), {"since": other.since.isoformat()})
        self.assertEqual(there.get(reverse("people:account")).status_code, 302)
        self.assertEqual(here.get(reverse("people:account")).status_code, 200)

    def test_nobody_ends_another_s(self):
        mine = self.signed_in()
        stranger = self.client_class()
        stranger.force_login(scenes.teacher("Inner light", "wilma"), backend="didactor.people.backends.PasswordBackend")
        for since in (sessions_of(self.teacher)[0].since.isoformat(), "", "nonsense"):
            stranger.post(reverse("people:end_session"), {"since": since})
        self.assertEqual(mine.get(reverse("people:account")).status_code, 200)

    def test_the_last_day_of_use_is_noted_once_a_day_and_the_beginning_stays(self):
        here = self.signed_in()
        SignedIn.objects.update(seen_on=timezone.localdate() - timedelta(days=3), since=timezone.now() - timedelta(days=3))
        session = here.session
        began = timezone.now() - timedelta(days=3)
        session["seen_on"], session["since"] = "2020-01-01", began.isoformat()
        session.save()
        here.get(reverse("people:account"))
        row = sessions_of(self.teacher)[0]
        self.assertEqual((row.seen_on, row.since), (timezone.localdate(), began))
        here.get(reverse("people:account"))
        self.assertEqual(sessions_of(self.teacher)[0].session_data, row.session_data, "nothing is written a second time")

    def test_one_that_ran_out_is_not_listed(self):
        self.signed_in()
        SignedIn.objects.update(expire_date=timezone.now() - timedelta(seconds=1))
        self.assertEqual(sessions_of(self.teacher), [])
        here = self.signed_in()
        discard_uploads(timestamp=0)
        self.assertEqual([row.session_key for row in SignedIn.objects.all()], [here.session.session_key], "by night it goes")

    def test_what_a_browser_says_of_itself(self):
        for agent, words in ((FIREFOX, "Firefox Mobile, Android"), ("", "Browser"), ("x" * 5000, "Browser"), ("\x00é", "Browser")):
            self.assertEqual(device_in_words(agent), words)


class HandingOnTests(SignedInScene):
    def setUp(self):
        studio = self.teacher.studio
        self.heir = Person.objects.create(username="tuva", name="Tuva", role="teacher", studio=studio)
        self.here = self.signed_in()

    def owners(self) -> set[str]:
        return set(Person.objects.filter(studio=self.teacher.studio, is_owner=True).values_list("username", flat=True))

    def hand(self, **sent: object) -> str:
        page = self.here.post(reverse("people:hand_on"), sent, follow=True)
        return page.content.decode()

    def test_with_the_password_to_a_colleague_and_only_once(self):
        self.assertIn("This is not your password", self.hand(heir=self.heir.pk, password="wrong"))
        self.assertEqual(self.owners(), {self.teacher.username})
        self.assertIn("Tuva decides about the studio now", self.hand(heir=self.heir.pk, password=PASSWORD))
        self.assertEqual(self.owners(), {"tuva"})
        self.assertEqual(self.here.post(reverse("people:hand_on"), {"heir": self.heir.pk, "password": PASSWORD}).status_code, 404)

    def test_to_nobody_else(self):
        gone = Person.objects.create(username="gone", name="Gone", role="teacher", studio=self.teacher.studio, is_active=False)
        stranger = scenes.teacher("Inner light", "wilma")
        for pk in (gone.pk, stranger.pk, self.scene.ylva.student_id, self.teacher.pk, 0, "x", ""):
            self.assertIn("Choose a colleague who teaches here", self.hand(heir=pk, password=PASSWORD))
        self.assertEqual(self.owners(), {self.teacher.username})
