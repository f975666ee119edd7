"""A teacher's account: founding a studio, inviting colleagues, passwords, sessions."""

from __future__ import annotations

import re
import time
from datetime import timedelta
from unittest import mock

from django.contrib.auth import authenticate
from django.core import mail
from django.core.cache import cache
from django.test import Client, TestCase, override_settings
from django.urls import reverse
from django.utils import timezone
from django_otp.oath import TOTP
from django_otp.plugins.otp_static.models import StaticDevice
from django_otp.plugins.otp_totp.models import TOTPDevice
from procrastinate.contrib.django.models import ProcrastinateJob

from didactor.people import second_factor
from didactor.people.jobs import send_reset
from didactor.people.models import Consent, Invitation, Person, Studio
from didactor.people.services import add_guardian
from didactor.takes.services import TakeRefused
from tests import scene as scenes
from tests.music import wav

NEW = "kelp-and-granite-7"
BACKEND = "didactor.people.backends.PasswordBackend"
TEACHER = {"name": "Tuva Reed", "email": "tuva@reed.example", "username": "tuva", "password": NEW}


class FoundingTests(TestCase):
    def found(self, **more: str) -> object:
        return self.client.post(reverse("people:found"), {**TEACHER, "studio": "Reed Point", **more})

    def test_an_empty_installation_is_founded_and_says_what_comes_first(self):
        self.assertRedirects(self.client.get(reverse("people:sign_in")), reverse("people:found"))
        self.assertRedirects(self.found(), reverse("home"), target_status_code=302)
        owner = Person.objects.get()
        self.assertEqual((owner.studio.name, owner.is_owner, owner.role), ("Reed Point", True, "teacher"))
        page = self.client.get(reverse("review:waiting"))
        self.assertEqual([step.done for step in page.context["first_steps"]], [False] * 3)
        self.assertContains(page, "Bring in a score")
        # Now that there is one, nobody founds another.
        stranger = Client()
        self.assertRedirects(stranger.get(reverse("people:found")), reverse("people:sign_in"))
        stranger.post(reverse("people:found"), {**TEACHER, "studio": "Mine", "username": "mallory"})
        self.assertEqual(Studio.objects.count(), 1)

    def test_another_one_only_where_the_operator_allows_it_and_apart_from_the_first(self):
        self.found()
        with override_settings(OPEN_TO_STUDIOS=True):
            other = Client()
            refused = other.post(reverse("people:found"), {**TEACHER, "studio": "Isle", "username": "TUVA"})
            self.assertContains(refused, "This sign-in name is taken")
            other.post(reverse("people:found"), {**TEACHER, "studio": "Isle", "username": "isa"})
        self.assertEqual({s.name: s.people.count() for s in Studio.objects.all()}, {"Reed Point": 1, "Isle": 1})

    def test_what_is_refused_is_said(self):
        for more, words in (
            ({"password": "short"}, "at least 10"),
            ({"password": "1234567890"}, "too common"),
            ({"username": "a b"}, "Letters, digits"),
            ({"studio": " "}, "This field is required"),
        ):
            self.assertContains(self.found(**more), words)
        self.assertFalse(Studio.objects.exists())

    def test_first_steps_end_with_the_first_assignment(self):
        scene = scenes.build()
        self.client.force_login(scene.teacher, backend=BACKEND)
        self.assertEqual(self.client.get(reverse("review:waiting")).context["first_steps"], [])


class ColleagueTests(TestCase):
    def setUp(self) -> None:
        self.owner = scenes.teacher("Outer light", "hedda")
        self.client.force_login(self.owner, backend=BACKEND)

    def invited(self) -> str:
        page = self.client.post(reverse("people:account"), {"invited": "Tuva"})
        return re.search(r"http://testserver(/join/[^\"]+)", page.content.decode())[1]

    def test_a_colleague_joins_by_the_link_once(self):
        link = self.invited()
        guest = Client()
        self.assertContains(guest.get(link), "Outer light invites you to teach")
        self.assertRedirects(guest.post(link, TEACHER), reverse("home"), target_status_code=302)
        tuva = Person.objects.get(username="tuva")
        self.assertEqual((tuva.studio, tuva.is_owner, tuva.role), (self.owner.studio, False, "teacher"))
        self.assertEqual(Client().get(link).status_code, 404)
        self.assertEqual(Client().post(link, {**TEACHER, "username": "second"}).status_code, 404)
        self.assertNotIn(link.split("/")[2], str(Invitation.objects.values_list()))

    def test_an_old_one_and_one_taken_back_open_nothing(self):
        old, back = self.invited(), self.invited()
        numbers = list(Invitation.objects.order_by("pk").values_list("pk", flat=True))
        Invitation.objects.filter(pk=numbers[0]).update(made_at=timezone.now() - timedelta(days=15))
        self.client.post(reverse("people:colleagues"), {"invitation": numbers[1]})
        for link in (old, back, "/join/nonsense/"):
            self.assertEqual(Client().get(link).status_code, 404)
            self.assertEqual(Client().post(link, TEACHER).status_code, 404)
        self.assertEqual(Person.objects.count(), 1)

    def test_the_owner_alone_decides_who_teaches(self):
        Client().post(self.invited(), TEACHER)
        tuva, colleague = Client(), Person.objects.get(username="tuva")
        tuva.force_login(colleague, backend=BACKEND)
        self.assertNotContains(tuva.get(reverse("people:account")), "Invite a colleague")
        self.assertEqual(tuva.post(reverse("people:account"), {"invited": "Mallory"}).status_code, 404)
        self.assertEqual(tuva.post(reverse("people:colleagues"), {"colleague": self.owner.pk}).status_code, 404)
        stranger = scenes.teacher("Elsewhere", "elsa")
        for number in (self.owner.pk, stranger.pk, "²", ""):
            self.client.post(reverse("people:colleagues"), {"colleague": number})
        self.assertEqual(Person.objects.filter(is_active=True).count(), 3)
        self.client.post(reverse("people:colleagues"), {"colleague": colleague.pk})
        self.assertFalse(Person.objects.get(pk=colleague.pk).is_active)
        self.assertEqual(tuva.get(reverse("people:account")).status_code, 302, "signed out")


class PasswordTests(TestCase):
    def setUp(self) -> None:
        cache.clear()
        self.hilde = scenes.teacher("Outer light", "hilde")
        Person.objects.filter(pk=self.hilde.pk).update(email="hilde@light.example")
        self.here, self.elsewhere = Client(), Client()
        for client in (self.here, self.elsewhere):
            client.force_login(Person.objects.get(pk=self.hilde.pk), backend=BACKEND)

    def signed_in(self, client: Client) -> bool:
        return client.get(reverse("people:account")).status_code == 200

    def test_a_changed_password_signs_out_everywhere_else(self):
        change = {"old": scenes.PASSWORD, "new": NEW}
        for wrong, words in (({"old": "guess"}, "not your password"), ({"new": "1234567890"}, "too common")):
            page = self.here.post(reverse("people:account"), {**change, **wrong})
            self.assertContains(page, words)
        self.assertTrue(self.signed_in(self.elsewhere))
        self.assertRedirects(self.here.post(reverse("people:account"), change), reverse("people:account"))
        self.assertEqual((self.signed_in(self.here), self.signed_in(self.elsewhere)), (True, False))

    def test_sign_out_everywhere_ends_the_other_sessions(self):
        self.here.post(reverse("people:sign_out_everywhere"))
        self.assertEqual((self.signed_in(self.here), self.signed_in(self.elsewhere)), (True, False))
        self.elsewhere.force_login(Person.objects.get(pk=self.hilde.pk), backend=BACKEND)
        self.here.post(reverse("people:sign_out_everywhere"))
        self.assertEqual((self.signed_in(self.here), self.signed_in(self.elsewhere)), (True, False))

    def asked(self, email: str) -> str:
        page = Client().post(reverse("people:forgotten"), {"email": email})
        self.assertEqual(page.status_code, 200)
        return re.sub(r'value="[^"]+"|[A-Za-z0-9]{64}', "", page.content.decode())

    def test_a_forgotten_password_is_chosen_anew_by_letter_once(self):
        same = self.asked("hilde@light.example")
        self.assertEqual(same, self.asked("nobody@light.example"), "who is here is not told")
        self.asked("HILDE@light.example")
        [job] = ProcrastinateJob.objects.filter(task_name__endswith="send_reset")
        self.assertEqual(job.args, {"person_id": self.hilde.pk})
        send_reset(**job.args)
        [letter] = mail.outbox
        self.assertEqual(letter.to, ["hilde@light.example"])
        link = re.search(r"http://\S+?(/forgotten/\S+)", letter.body)[1]
        client = Client()
        page = client.get(link, follow=True)
        choose = page.redirect_chain[-1][0]
        self.assertContains(client.post(choose, {"new_password1": NEW, "new_password2": "other-words-99"}), "match")
        self.assertRedirects(client.post(choose, {"new_password1": NEW, "new_password2": NEW}), reverse("people:sign_in"))
        self.assertIsNotNone(authenticate(None, username="hilde", password=NEW))
        self.assertFalse(self.signed_in(self.here))
        self.assertContains(Client().get(link), "This link is not good any more")

    def test_students_get_no_letter(self):
        scene = scenes.build()
        Person.objects.filter(pk=scene.ylva.student_id).update(email="ylva@light.example")
        self.asked("ylva@light.example")
        self.assertFalse(ProcrastinateJob.objects.filter(task_name__endswith="send_reset").exists())
        send_reset(person_id=10**6)
        self.assertEqual(mail.outbox, [])


class ConsentTests(scenes.OwnFolders, TestCase):
    def setUp(self) -> None:
        self.scene = scenes.build()
        self.ossian = self.scene.ossian.student
        self.client.force_login(self.scene.guardian, backend="didactor.people.backends.CardBackend")
        self.url = reverse("people:consent")

    def say(self, kind: str, more: dict[str, object] | None = None) -> int:
        return self.client.post(self.url, {"ward": self.ossian.pk, "kind": kind} | (more or {})).status_code

    def test_a_guardian_gives_each_kind_and_withdraws_it(self):
        self.assertTrue(self.ossian.consent_missing)
        self.assertContains(self.client.get(self.url), "not given", count=3)
        for _ in range(2):
            self.assertEqual(self.say("sound"), 302)
        [consent] = self.ossian.consents.all()
        self.assertEqual((consent.given_by, consent.recorded_by, consent.kind), ("Runa", self.scene.guardian, "sound"))
        self.assertIn("Sound: I agree", consent.wording)
        self.assertFalse(self.ossian.consent_missing)
        self.assertTrue(self.ossian.picture_consent_missing)
        scenes.recorded_by(self.scene.other_task, wav(instrument="violin"))
        self.assertContains(self.client.get(self.url), "agreed by Runa")
        self.say("sound", {"not": "1"})
        self.assertTrue(self.ossian.consent_missing)
        with self.assertRaises(TakeRefused):
            scenes.recorded_by(self.scene.other_task, wav(instrument="violin", seed=8))
        self.assertIsNotNone(self.ossian.consents.get().withdrawn_at)

    def test_for_nobody_else_and_nothing_else(self):
        for more in ({"ward": self.scene.ylva.student_id}, {"ward": "²"}, {"ward": ""}, {"kind": "everything"}, {"kind": ""}):
            self.assertEqual(self.say("sound", more), 404)
        other = add_guardian(student=self.scene.ylva.student, name="Nora")
        self.client.force_login(other, backend="didactor.people.backends.CardBackend")
        self.assertEqual(self.say("sound"), 404)
        self.assertContains(self.client.get(self.url), "Nothing is asked of you")
        self.assertFalse(Consent.objects.exists())


class SecondFactorTests(TestCase):
    def setUp(self) -> None:
        self.hilde = scenes.teacher("Outer light", "hilde")
        self.client.force_login(self.hilde, backend=BACKEND)
        self.url = reverse("people:set_up_second")

    def code(self) -> str:
        return f"{TOTP(TOTPDevice.objects.get(user=self.hilde).bin_key).token():06d}"

    def turned_on(self) -> list[str]:
        self.assertContains(self.client.get(self.url), "data:image/svg")
        page = self.client.post(self.url, {"code": self.code()})
        return re.findall(r"<code>([0-9a-f]{8})</code>", page.content.decode())

    def signed_in(self, client: Client) -> bool:
        return client.get(reverse("people:account")).status_code == 200

    def password(self, client: Client) -> object:
        return client.post(reverse("people:sign_in"), {"teacher-username": "hilde", "teacher-password": scenes.PASSWORD})

    def forget(self) -> None:
        """As if some time had gone by: a code works once, and wrong ones make the next wait."""
        TOTPDevice.objects.update(last_t=-1, throttling_failure_count=0, throttling_failure_timestamp=None)
        StaticDevice.objects.update(throttling_failure_count=0, throttling_failure_timestamp=None)

    def test_with_it_the_password_alone_opens_nothing(self):
        self.assertEqual(len(self.turned_on()), 8)
        self.forget()
        client = Client()
        self.assertRedirects(self.password(client), reverse("people:second"))
        self.assertFalse(self.signed_in(client))
        self.assertContains(client.post(reverse("people:second"), {"code": "000000"}), "not the code of now")
        self.assertFalse(self.signed_in(client))
        right = self.code()
        self.assertContains(client.post(reverse("people:second"), {"code": right}), "not the code", msg_prefix="it waits after a wrong one")
        self.forget()
        self.assertRedirects(client.post(reverse("people:second"), {"code": right}), reverse("home"), target_status_code=302)
        self.assertTrue(self.signed_in(client))
        # The same code a second time is somebody who looked over a shoulder.
        thief = Client()
        self.password(thief)
        thief.post(reverse("people:second"), {"code": right})
        self.assertFalse(self.signed_in(thief))

    def test_a_code_on_paper_works_once(self):
        paper = self.turned_on()[0]
        for expected in (True, False):
            self.forget()
            client = Client()
            self.password(client)
            client.post(reverse("people:second"), {"code": paper.upper()})
            self.assertEqual(self.signed_in(client), expected)

    def test_a_wrong_code_turns_nothing_on(self):
        self.client.get(self.url)
        self.assertContains(self.client.post(self.url, {"code": "123"}), "not the code of now")
        self.assertFalse(second_factor.is_on(self.hilde))
        client = Client()
        self.assertRedirects(self.password(client), reverse("home"), target_status_code=302)

    def test_it_is_turned_off_with_the_password_alone(self):
        self.turned_on()
        self.client.post(self.url, {"off": "1", "password": "guess"})
        self.assertTrue(second_factor.is_on(self.hilde))
        self.client.post(self.url, {"off": "1", "password": scenes.PASSWORD})
        self.assertFalse(second_factor.is_on(self.hilde))

    def test_the_second_step_needs_the_first_and_its_time(self):
        self.turned_on()
        self.forget()
        client = Client()
        self.assertRedirects(client.post(reverse("people:second"), {"code": self.code()}), reverse("people:sign_in"))
        self.password(client)
        with mock.patch("didactor.people.account_views.time.time", return_value=time.time() + 601):
            self.assertRedirects(client.post(reverse("people:second"), {"code": self.code()}), reverse("people:sign_in"))
        self.assertFalse(self.signed_in(client))
