"""Who is who: what each sees of the others, cards and names, enrolments, consent; what a list of a class makes of them."""

from __future__ import annotations

from datetime import timedelta

from django.contrib.auth.models import AnonymousUser
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.people import services
from didactor.people.backends import CardBackend
from didactor.people.models import Enrolment, Group, Person, SentForm, SignInCard
from didactor.people.roll import read_roll
from didactor.people.sent_once import forget_sent_forms
from tests import scene as scenes


class SeenByTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.teacher, cls.other = scenes.teacher("Outer light", "hedda"), scenes.teacher("Inner dark", "stranger")
        add = services.add_student
        cls.ada = add(studio=cls.teacher.studio, name="Ada", instrument="flute", level="beginner", group_name="Band").student
        cls.bo = add(studio=cls.teacher.studio, name="Bo", instrument="tuba", level="beginner").student
        cls.far = add(studio=cls.other.studio, name="Far", instrument="tuba", level="beginner").student
        cls.eva = services.add_guardian(student=cls.ada, name="Eva")
        cls.eva.wards.add(cls.bo)

    def seen(self, person) -> tuple[list[str], list[str]]:
        people = Person.objects.visible_to(person).order_by("name").values_list("name", flat=True)
        return list(people), [str(e.student) for e in Enrolment.objects.visible_to(person)]

    def test_a_teacher_sees_the_studio_a_student_themself_a_guardian_their_wards(self):
        self.assertEqual(self.seen(self.teacher), (["Ada", "Bo", "Eva", str(self.teacher)], ["Ada", "Bo"]))
        self.assertEqual(self.seen(self.other), (["Far", str(self.other)], ["Far"]))
        self.assertEqual(self.seen(self.ada), (["Ada"], ["Ada"]))
        self.assertEqual(self.seen(self.eva), (["Ada", "Bo", "Eva"], ["Ada", "Bo"]))
        self.assertEqual(self.seen(AnonymousUser()), ([], []))

    def test_who_has_left_is_no_student_any_more_and_gets_no_work(self):
        services.leave(student=self.bo)
        self.assertEqual([str(p) for p in Person.objects.visible_to(self.teacher).students()], ["Ada"])
        self.assertEqual([str(e.student) for e in Enrolment.objects.visible_to(self.teacher).active()], ["Ada"])
        # What they played stays to be seen.
        self.assertEqual(self.seen(self.teacher)[1], ["Ada", "Bo"])


class CardTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.studio = scenes.teacher("Outer light", "hedda").studio
        cls.ada = services.add_student(studio=cls.studio, name="Ada", instrument="flute", level="beginner").student

    def test_a_code_is_long_unmistakable_and_kept_only_as_a_hash(self):
        codes = {services.make_card(self.ada).replace("-", "") for _ in range(40)}
        self.assertEqual({len(code) for code in codes}, {services.CODE_LENGTH})
        self.assertEqual(len(codes), 40)
        self.assertFalse(set("".join(codes)) & set("ilo01"))
        self.assertEqual(SignInCard.objects.count(), 1)
        self.assertNotIn(SignInCard.objects.get().code_hash, codes)

    def test_it_may_be_typed_in_any_case_with_spaces_or_dashes(self):
        code, backend = services.make_card(self.ada), CardBackend()
        for typed in (code, code.upper(), code.replace("-", " "), f"  {code.replace('-', '')} "):
            self.assertEqual(backend.authenticate(None, card_code=typed), self.ada, typed)
        for typed in ("", None, code[:-1], f"{code}x", "----"):
            self.assertIsNone(backend.authenticate(None, card_code=typed), typed)

    def test_a_new_card_ends_the_old_one_and_one_who_left_has_none_that_opens(self):
        old, backend = services.make_card(self.ada), CardBackend()
        new = services.make_card(self.ada)
        self.assertIsNone(backend.authenticate(None, card_code=old))
        self.assertEqual(backend.get_user(self.ada.pk), self.ada)
        services.leave(student=self.ada)
        self.assertIsNone(backend.authenticate(None, card_code=new))
        self.assertIsNone(backend.get_user(self.ada.pk))

    def test_a_teacher_s_password_outlives_a_new_card_a_student_s_sessions_do_not(self):
        teacher = scenes.teacher("Another", "other")
        before, before_ada = teacher.password, self.ada.password
        services.make_card(teacher)
        services.make_card(self.ada)
        for person in (teacher, self.ada):
            person.refresh_from_db()
        self.assertEqual(teacher.password, before)
        self.assertNotEqual(self.ada.password, before_ada)

    def test_failures_of_different_codes_are_counted_apart(self):
        self.assertEqual(services.guess_name("AB-C1"), services.guess_name("abc1"))
        self.assertNotEqual(services.guess_name("abc1"), services.guess_name("abc2"))


class EnrolmentTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.teacher = scenes.teacher("Outer light", "hedda")
        cls.studio = cls.teacher.studio

    def add(self, name: str, **more) -> Person:
        return services.add_student(studio=self.studio, name=name, **{"instrument": "flute", "level": "beginner", **more}).student

    def test_people_of_one_name_have_names_of_their_own_to_sign_in(self):
        names = [self.add(name).username for name in ("Ada Holm", "ada holm", "Ada  Holm ", "Øystein", "李")]
        self.assertEqual(names, ["ada.holm", "ada.holm.2", "ada.holm.3", "ystein", "person"])

    def test_an_instrument_is_had_once_and_its_level_and_group_change(self):
        ada = self.add("Ada", group_name=" Band ")
        again = services.enrol(student=ada, instrument="flute", level="advanced", group_name="Band")
        self.assertEqual((ada.enrolments.count(), again.level, again.group.name), (1, "advanced", "Band"))
        self.assertIsNone(services.enrol(student=ada, instrument="tuba", level="beginner", group_name=" ").group)
        self.assertEqual((ada.enrolments.count(), Group.objects.count()), (2, 1))

    def test_consent_is_asked_of_minors_until_it_is_given_and_after_it_is_withdrawn(self):
        child, adult = self.add("Child", is_minor=True), self.add("Adult")
        self.assertEqual((child.consent_missing, adult.consent_missing), (True, False))
        consent = services.record_consent(student=child, given_by=" Eva ", recorded_by=self.teacher)
        self.assertEqual((child.consent_missing, consent.given_by, consent.wording), (False, "Eva", services.CONSENT_WORDING))
        services.withdraw_consent(student=child)
        self.assertTrue(child.consent_missing)
        services.record_consent(student=child, given_by="Eva", recorded_by=self.teacher)
        self.assertFalse(child.consent_missing)
        self.assertEqual(child.consents.count(), 2)

    def test_sound_and_pictures_are_agreed_to_apart(self):
        child = services.add_student(studio=self.teacher.studio, name="Pip", instrument="violin", level="beginner", is_minor=True).student
        page = reverse("people:student", args=[child.pk])
        self.client.force_login(self.teacher)
        self.client.post(page, {"given_by": "Eva", "agreed": "on", "kind": "picture"})
        self.assertEqual((child.consent_missing, child.picture_consent_missing), (True, False))
        self.assertEqual(child.consents.get().wording, services.PICTURE_WORDING)
        self.client.post(page, {"given_by": "Eva", "agreed": "on", "kind": "everything"})
        self.assertTrue(child.consent_missing)
        self.client.post(page, {"given_by": "Eva", "agreed": "on"})
        self.assertFalse(child.consent_missing)
        self.client.post(reverse("people:withdraw_consent", args=[child.pk]), {"kind": "picture"})
        self.assertEqual((child.consent_missing, child.picture_consent_missing), (False, True))
        self.client.post(page, {"called": "Pip", "no_notes_yet": "on", "is_minor": "on"})
        self.assertFalse(child.enrolments.get().reads_notes)

    def roll(self, text: str, group: str = "") -> tuple[list[str], list[str]]:
        added, more = services.add_roll(studio=self.studio, rows=read_roll(text, self.studio, group))
        return [str(p) for p in added], [str(e) for e in more]

    def test_one_student_on_two_lines_is_one_with_two_instruments(self):
        self.assertEqual(self.roll("Ada, Flute\nADA, Tuba\nBo, Flute"), (["Ada", "Bo"], []))
        self.assertEqual(set(Person.objects.get(name="Ada").enrolments.values_list("instrument", flat=True)), {"flute", "tuba"})

    def test_who_is_here_gets_another_instrument_and_no_second_guardian(self):
        ada = self.add("Ada")
        self.assertEqual(self.roll("ada, Tuba, advanced, Band, Eva"), ([], ["Ada (Tuba)"]))
        self.assertEqual((ada.guardians.count(), ada.enrolments.get(instrument="tuba").group.name), (0, "Band"))
        self.assertEqual(self.roll("Ada, Tuba"), ([], []))

    def test_what_has_a_problem_is_left_out_and_the_rest_goes_in(self):
        self.assertEqual(self.roll("Ada, Flute, , , Eva\nBo, Kazookle\nCleo, Tuba", group="Band"), (["Ada", "Cleo"], []))
        ada = Person.objects.get(name="Ada")
        self.assertEqual(([str(g) for g in ada.guardians.all()], ada.is_minor), (["Eva"], True))
        self.assertEqual(set(Enrolment.objects.values_list("group__name", flat=True)), {"Band"})

    def test_a_person_of_another_studio_is_somebody_else(self):
        other = scenes.teacher("Inner dark", "stranger")
        services.add_student(studio=other.studio, name="Ada", instrument="flute", level="beginner")
        self.assertEqual(self.roll("Ada, Flute"), (["Ada"], []))
        self.assertEqual(Person.objects.filter(name="Ada").count(), 2)


class SentFormsTests(TestCase):
    def test_forms_are_forgotten_after_two_days_and_not_before(self):
        for key, age in (("a", timedelta(hours=47)), ("b", timedelta(hours=49))):
            SentForm.objects.create(key=key)
            SentForm.objects.filter(key=key).update(sent_at=timezone.now() - age)
        self.assertEqual(forget_sent_forms(), 1)
        self.assertEqual(SentForm.objects.get().key, "a")
