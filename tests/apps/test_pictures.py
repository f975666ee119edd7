"""Signing in with pictures: for the child it belongs to, on any device; and nobody guesses it, or locks the child out by trying."""

from __future__ import annotations

from datetime import timedelta

from axes.models import AccessAttempt
from django.test import Client, TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.people import pictures
from didactor.people.models import Enrolment, Group, Person, PictureCode, Studio
from didactor.people.services import add_student, make_card
from tests import scene as scenes

CODE = ["fish", "moon", "fish", "drum"]
BACKEND = "didactor.people.backends.PasswordBackend"


class PicturesScene(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        cls.child, cls.teacher = cls.scene.ylva.student, cls.scene.teacher
        pictures.give(person=cls.child, chosen=CODE)
        cls.code = pictures.studio_code(cls.teacher.studio)

    def device(self) -> Client:
        return self.client_class(headers={"User-Agent": f"device {id(self)}"})

    def at(self, person: Person | None = None) -> str:
        return reverse("people:pictures_tap", args=[self.teacher.studio.code, (person or self.child).pk])

    def touch(self, device: Client, code: list[str] = CODE, person: Person | None = None) -> object:
        return device.post(self.at(person), {"so_far": " ".join(code[:-1]), "picture": code[-1]})

    def guessed_wrong(self, device: Client, times: int) -> list[int]:
        with self.settings(AXES_ENABLED=True):
            return [self.touch(device, ["sun", "sun", "sun", "sun"]).status_code for _ in range(times)]

    def right(self, device: Client) -> int:
        with self.settings(AXES_ENABLED=True):
            return self.touch(device).status_code


class SigningInTests(PicturesScene):
    def test_the_studio_s_code_then_the_name_then_one_picture_after_the_other(self):
        device = self.device()
        self.assertContains(device.get(reverse("people:sign_in")), reverse("people:pictures"))
        typed = device.post(reverse("people:pictures"), {"code": f" {self.code.upper()} "})
        names = reverse("people:pictures_of", args=[self.teacher.studio.code])
        self.assertRedirects(typed, names)
        page = device.get(names)
        self.assertContains(page, f'href="{self.at()}">Ylva</a>')
        self.assertNotContains(page, "Ossian", msg_prefix="has no pictures")
        so_far: list[str] = []
        for picture in CODE[:-1]:
            page = device.post(self.at(), {"so_far": " ".join(so_far), "picture": picture})
            so_far.append(picture)
            self.assertContains(page, f'value="{" ".join(so_far)}"')
        back = device.post(self.at(), {"so_far": " ".join(so_far), "back": "1"})
        self.assertContains(back, 'value="fish moon"')
        self.assertRedirects(self.touch(device), reverse("home"), target_status_code=302)
        self.assertContains(device.get(reverse("stand:index")), "Ylva")

    def test_wrong_ones_begin_again_and_what_is_none_of_ours_is_no_touch(self):
        device = self.device()
        page = self.touch(device, ["moon", "fish", "fish", "drum"])
        self.assertContains(page, "That was not right")
        self.assertContains(page, 'name="so_far" value=""')
        self.assertContains(device.post(self.at(), {"so_far": "fish <b> cat fish fish fish", "picture": "x"}), 'value="fish fish fish"')
        self.assertEqual(device.get(reverse("stand:index")).status_code, 302)

    def test_a_code_of_no_studio_and_a_child_of_another_one_open_nothing(self):
        device = self.device()
        self.assertContains(device.post(reverse("people:pictures"), {"code": "abcd-efgh"}), "No studio has this code")
        self.assertRedirects(device.get(reverse("people:pictures_of", args=["abcdefgh"])), reverse("people:pictures"))
        other = scenes.teacher("Inner light", "wilma")
        far = add_student(studio=other.studio, name="Far", instrument="tuba", level="beginner").student
        pictures.give(person=far, chosen=CODE)
        self.assertEqual(self.touch(device, person=far).status_code, 302)
        self.assertEqual(device.get(reverse("stand:index")).status_code, 302, "not by this studio's code")
        self.assertEqual(self.touch(device, person=self.scene.ossian.student).status_code, 302)
        self.child.is_active = False
        self.child.save()
        self.assertEqual(self.touch(device)["Location"], reverse("people:pictures_of", args=[self.teacher.studio.code]))

    def test_two_of_one_first_name_are_told_apart(self):
        twin = add_student(studio=self.teacher.studio, name="Ylva Strand", instrument="tuba", level="beginner").student
        pictures.give(person=twin)
        self.assertEqual([called for _, called in pictures.who_may(self.teacher.studio)], [self.child.name, "Ylva Strand"])


class GuessingTests(PicturesScene):
    def test_ten_a_day_from_anywhere_and_neither_the_own_device_nor_the_card_is_stopped(self):
        own = self.device()
        self.touch(own)
        statuses = self.guessed_wrong(self.client_class(REMOTE_ADDR="192.0.2.8"), 6)
        statuses += self.guessed_wrong(self.client_class(REMOTE_ADDR="192.0.2.9"), 6)
        self.assertEqual(statuses, [200] * 9 + [429] * 3, "counted over all addresses")
        elsewhere = self.client_class(REMOTE_ADDR="192.0.2.10")
        self.assertEqual(self.right(elsewhere), 429)
        AccessAttempt.objects.update(attempt_time=timezone.now() - timedelta(hours=20))
        self.assertEqual(self.right(elsewhere), 429, "for a day")
        self.assertEqual(self.right(own), 302)
        with self.settings(AXES_ENABLED=True):
            by_card = self.device().post(reverse("people:sign_in"), {"card-code": make_card(self.child)})
        self.assertEqual(by_card.status_code, 302)
        AccessAttempt.objects.update(attempt_time=timezone.now() - timedelta(hours=25))
        self.assertEqual(self.right(elsewhere), 302)

    def test_the_failures_of_others_do_not_end_that_day_sooner(self):
        self.guessed_wrong(self.client_class(REMOTE_ADDR="192.0.2.8"), 10)
        AccessAttempt.objects.update(attempt_time=timezone.now() - timedelta(hours=2))
        with self.settings(AXES_ENABLED=True):
            self.client_class().post(reverse("people:sign_in"), {"teacher-username": "x", "teacher-password": "y"})
        self.assertEqual(self.right(self.client_class()), 429)

    def test_the_card_makes_a_device_the_child_s_own(self):
        own = self.device()
        own.post(reverse("people:sign_in"), {"card-code": make_card(self.child)})
        self.guessed_wrong(self.client_class(), 10)
        self.assertEqual(self.right(own), 302)

    def test_on_the_own_device_ten_wait_a_quarter_of_an_hour(self):
        own = self.device()
        self.touch(own)
        self.assertEqual(self.guessed_wrong(own, 11)[-1], 429)
        self.assertEqual(self.right(own), 429)
        self.assertEqual(self.right(self.client_class()), 302, "elsewhere is counted apart")
        AccessAttempt.objects.update(attempt_time=timezone.now() - timedelta(minutes=16))
        self.assertEqual(self.right(own), 302)

    def test_a_made_up_device_is_none(self):
        made_up = self.device()
        made_up.cookies[pictures.COOKIE] = "made:up:signature"
        self.guessed_wrong(self.client_class(), 10)
        self.assertEqual(self.right(made_up), 429)

    def test_the_teacher_sees_it_and_lets_them_try_again(self):
        self.guessed_wrong(self.client_class(), 10)
        self.client.force_login(self.teacher, backend=BACKEND)
        url = reverse("people:pictures_of_student", args=[self.child.pk])
        self.assertContains(self.client.get(url), "Let them try again now")
        self.client.post(url, {"again": "1"})
        self.assertNotContains(self.client.get(url), "Let them try again now")
        self.assertEqual(self.right(self.device()), 302)

    def test_what_was_typed_is_not_kept_with_a_failure(self):
        with self.settings(AXES_ENABLED=True):
            self.client.post(reverse("people:sign_in"), {"teacher-username": "hedda", "teacher-password": "almost right"})
            self.client.post(reverse("people:sign_in"), {"card-code": "abcd-efgh-jkmn"})
            self.touch(self.device(), ["sun", "sun", "sun", "bell"])
        kept = " ".join(f"{row.post_data} {row.get_data}" for row in AccessAttempt.objects.all())
        self.assertEqual(AccessAttempt.objects.count(), 3)
        for typed in ("almost right", "abcd", "bell", "sun"):
            self.assertNotIn(typed, kept)


class TeacherTests(PicturesScene):
    def setUp(self):
        self.client.force_login(self.teacher, backend=BACKEND)
        self.url = reverse("people:pictures_of_student", args=[self.child.pk])

    def test_new_pictures_are_shown_once_on_a_card_and_end_what_the_old_ones_opened(self):
        own = self.device()
        self.touch(own)
        page = self.client.post(self.url, {"picture": ["sun", "key", "key", "boat"]})
        self.assertContains(page, self.code)
        self.assertEqual([name for name, _ in page.context["cards"][0]["pictures"]], ["sun", "key", "key", "boat"])
        self.assertNotContains(self.client.get(self.url), "key, boat")
        self.assertEqual(own.get(reverse("stand:index")).status_code, 302, "signed out")
        self.assertEqual(self.touch(own).status_code, 200)
        self.assertEqual(self.touch(own, ["sun", "key", "key", "boat"]).status_code, 302)
        self.assertNotIn("sun", PictureCode.objects.get(person=self.child).code_hash)

    def test_too_few_or_strange_ones_are_refused(self):
        for chosen in (["sun"], ["sun", "sun", "sun", "cat"], ["sun"] * 5, ["sun", "sun", "sun", ""]):
            self.assertContains(self.client.post(self.url, {"picture": chosen}), "Choose four pictures", status_code=422)
        self.assertEqual(self.touch(self.device()).status_code, 302, "the old ones hold")

    def test_any_four_and_taken_away(self):
        given = [name for name, _ in self.client.post(self.url, {"any": "1"}).context["cards"][0]["pictures"]]
        self.assertEqual(self.touch(self.device(), given).status_code, 302)
        own = self.device()
        self.touch(own, given)
        self.client.post(self.url, {"away": "1"})
        self.assertEqual(own.get(reverse("stand:index")).status_code, 302)
        self.assertEqual(pictures.who_may(self.teacher.studio), [])

    def test_for_a_group_those_without_or_all(self):
        group = Group.objects.create(studio=self.teacher.studio, name="Tuesday")
        Enrolment.objects.filter(student__studio=self.teacher.studio).update(group=group)
        sent = {"group": group.pk, "kind": "pictures"}
        page = self.client.post(reverse("people:group_cards"), {**sent, "whose": "without"})
        named = {card["person"] for card in page.context["cards"]}
        self.assertNotIn(self.child, named)
        self.assertTrue(named)
        self.assertRedirects(self.client.post(reverse("people:group_cards"), {**sent, "whose": "without"}), reverse("people:students"))
        everybody = self.client.post(reverse("people:group_cards"), {**sent, "whose": "all"})
        self.assertEqual({card["person"] for card in everybody.context["cards"]}, {*named, self.child})

    def test_the_owner_makes_another_studio_code_and_nobody_else(self):
        studio = self.teacher.studio
        for is_owner, status in ((False, 404), (True, 302)):
            Person.objects.filter(pk=self.teacher.pk).update(is_owner=is_owner)
            self.assertEqual(self.client.post(reverse("people:new_studio_code")).status_code, status)
        self.assertNotEqual(Studio.objects.get(pk=studio.pk).code, studio.code)
        self.assertIsNone(pictures.studio_of(self.code))
        self.assertContains(self.client.get(reverse("people:account")), pictures.studio_code(Studio.objects.get(pk=studio.pk)))
