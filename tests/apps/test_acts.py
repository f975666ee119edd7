"""The table of who may do what to whom, each cell of it through the real pages: owner, colleague, student, guardian and those of another
studio, to each other and to those who left.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

from django.core import mail
from django.test import TestCase
from django.urls import reverse

from didactor.people import accounts, second_factor, services
from didactor.people.acts import TABLE, Act, Whose
from didactor.people.jobs import CHANGED, send_reset, tell_of_change
from didactor.people.models import ConsentKind, Person, PictureCode, Role, SignInCard
from tests import scene as scenes

BACKEND = "didactor.people.backends.PasswordBackend"


class ActsScene(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        cls.people: dict[str, Person] = {}
        for studio, prefix in (("Outer light", ""), ("Another studio", "far ")):
            owner = scenes.teacher(studio, f"{prefix}owner".replace(" ", "-"))
            colleague = Person.objects.create_user(
                username=f"{prefix}colleague", password=scenes.PASSWORD, name="Brannoc", role=Role.TEACHER, studio=owner.studio
            )
            student = services.add_student(studio=owner.studio, name="Ylva", instrument="clarinet", level="advanced", is_minor=True).student
            other = services.add_student(studio=owner.studio, name="Tove", instrument="clarinet", level="advanced").student
            left = services.add_student(studio=owner.studio, name="Edda", instrument="clarinet", level="advanced").student
            guardian = services.add_guardian(student=student, name="Runa")
            services.leave(student=left)
            found = {"owner": owner, "colleague": colleague, "student": student, "other": other, "left": left, "guardian": guardian}
            cls.people |= {f"{prefix}{name}": person for name, person in found.items()}

    def as_(self, who: str) -> None:
        self.client.force_login(Person.objects.get(pk=self.people[who].pk), backend=BACKEND)

    def whose(self, actor: str, whom: str) -> set[Whose]:
        """What the one is to the other."""
        one, two = self.people[actor], self.people[whom]
        if one.pk == two.pk:
            return {Whose.OWN}
        found = set()
        if one.studio_id == two.studio_id and one.is_teacher:
            found |= {Whose.LEFT} if two.is_student else set()
            found |= {Whose.STUDENT} if two.is_student and two.is_active else set()
            found |= {Whose.GUARDIAN} if two.is_guardian else set()
            found |= {Whose.COLLEAGUE} if two.is_teacher and not two.is_owner else set()
        if one.is_guardian and one.wards.filter(pk=two.pk).exists():
            found.add(Whose.WARD)
        return found

    def may(self, actor: str, act: Act, whom: str) -> bool:
        person = self.people[actor]
        return bool(TABLE["owner" if person.is_owner else str(person.role)].get(act, set()) & self.whose(actor, whom))

    def pairs(self) -> Iterator[tuple[str, str]]:
        for actor in self.people:
            if self.people[actor].is_active and "far" not in actor:
                for whom in self.people:
                    yield actor, whom


class TableTests(ActsScene):
    def each(self, act: Act, does: Callable[[Person], bool]) -> None:
        """``does`` tries it and says whether it happened; what happened is taken back for the next."""
        from django.db import transaction

        tried = {True: 0, False: 0}
        for actor, whom in self.pairs():
            with self.subTest(act=act.name, actor=actor, whom=whom), transaction.atomic():
                self.as_(actor)
                allowed = self.may(actor, act, whom)
                self.assertEqual(allowed, does(Person.objects.get(pk=self.people[whom].pk)))
                tried[allowed] += 1
                transaction.set_rollback(True)
        self.assertGreater(min(tried.values()), 0)

    def post(self, address: str, person: Person, /, **sent: str) -> int:
        return self.client.post(reverse(address, args=[person.pk]), sent).status_code

    def test_letters(self) -> None:
        def does(person: Person) -> bool:
            own = self.client.session.get("_auth_user_id") == str(person.pk)
            url = reverse("letters") if own else reverse("letters_of", args=[person.pk])
            return self.client.post(url, {"keep": "1"}).status_code == 302

        self.each(Act.CHOOSE_LETTERS, does)

    def test_an_address_is_entered_for_who_has_none(self) -> None:
        def does(person: Person) -> bool:
            self.post("letters_of", person, address="new@tern.example", password=scenes.PASSWORD)
            person.refresh_from_db()
            return person.email == "new@tern.example" and self.client.session["_auth_user_id"] != str(person.pk)

        self.each(Act.ENTER_ADDRESS, does)

    def test_an_address_that_is_there_is_changed_by_its_person_alone(self) -> None:
        Person.objects.update(email="old@tern.example")

        def does(person: Person) -> bool:
            sent = {"address": "new@tern.example", "password": scenes.PASSWORD}
            self.client.post(reverse("letters_of", args=[person.pk]), sent)
            if self.client.session["_auth_user_id"] == str(person.pk):
                self.client.post(reverse("letters"), sent)
            person.refresh_from_db()
            return person.email == "new@tern.example"

        self.each(Act.CHANGE_ADDRESS, does)

    def test_cards_and_pictures(self) -> None:
        def does(person: Person) -> bool:
            SignInCard.objects.all().delete()
            carded = self.post("people:new_card", person) == 200 and SignInCard.objects.filter(person=person).exists()
            self.post("people:pictures_of_student", person)
            pictured = PictureCode.objects.filter(person=person).exists()
            self.assertEqual(carded, pictured)
            return carded

        self.each(Act.MAKE_CARD, does)

    def test_name_and_age(self) -> None:
        def does(person: Person) -> bool:
            self.post("people:student", person, called="Somebody else")
            person.refresh_from_db()
            return person.name == "Somebody else"

        self.each(Act.CHANGE_PERSON, does)

    def test_consent(self) -> None:
        for child in (self.people["student"], self.people["far student"]):
            services.record_consent(student=child, given_by="Runa", recorded_by=child.guardians.get())
        minors = [name for name, person in self.people.items() if person.is_minor]

        def does(person: Person) -> bool:
            self.post("people:withdraw_consent", person)
            self.client.post(reverse("people:consent"), {"ward": str(person.pk), "kind": ConsentKind.SOUND, "not": "1"})
            return person.pk in {self.people[m].pk for m in minors} and not person.has_consent(ConsentKind.SOUND)

        self.people = {name: person for name, person in self.people.items() if name not in ("other", "left", "far other", "far left")}
        self.each(Act.CONSENT, does)

    def test_letting_leave(self) -> None:
        def does(person: Person) -> bool:
            if not person.is_active:
                return False
            self.post("people:leave", person)
            self.client.post(reverse("people:colleagues"), {"colleague": person.pk})
            person.refresh_from_db()
            return not person.is_active

        self.each(Act.LET_GO, does)

    def test_a_copy_of_all_that_is_kept(self) -> None:
        self.each(Act.COPY, lambda person: self.client.get(reverse("copy_of", args=[person.pk])).status_code == 200)

    def test_erasing(self) -> None:
        def does(person: Person) -> bool:
            self.post("progress:erase_student", person, name=person.name)
            return not Person.objects.filter(pk=person.pk).exists()

        self.each(Act.ERASE, does)

    def test_handing_on(self) -> None:
        def does(person: Person) -> bool:
            if person.is_owner:
                return False
            self.client.post(reverse("people:hand_on"), {"heir": person.pk, "password": scenes.PASSWORD})
            person.refresh_from_db()
            return person.is_owner

        self.each(Act.HAND_ON, does)

    def test_password_sessions_and_second_factor_have_no_page_of_another(self) -> None:
        """Their addresses name nobody: there is no number to put in."""
        for name in ("people:account", "people:set_up_second", "people:end_session", "people:sign_out_everywhere", "letters"):
            self.assertNotRegex(reverse(name), r"\d")
        self.assertEqual({role for role, acts in TABLE.items() if Act.CHANGE_PASSWORD in acts}, {"owner", "teacher"})

    def test_every_act_is_tried_here(self) -> None:
        tried = {Act.CHANGE_PASSWORD, *(act for act in Act if f"Act.{act.name}," in Path(__file__).read_text())}
        self.assertEqual(set(Act), tried)


class TakingOverTests(ActsScene):
    """How a colleague took over the owner, in three requests."""

    def setUp(self) -> None:
        Person.objects.filter(pk=self.people["owner"].pk).update(email="owner@tern.example")

    def owner(self) -> Person:
        return Person.objects.get(pk=self.people["owner"].pk)

    def test_a_colleague_gets_no_letter_about_the_owners_password(self) -> None:
        self.as_("colleague")
        for url in (reverse("letters_of", args=[self.owner().pk]), reverse("letters")):
            self.client.post(url, {"address": "mine@tern.example", "person": self.owner().pk, "pk": self.owner().pk})
        accounts.ask_for_reset(email="mine@tern.example")
        send_reset(person_id=self.owner().pk)
        self.assertEqual((self.owner().email, [m.to for m in mail.outbox]), ("owner@tern.example", [["owner@tern.example"]]))

    def test_a_new_address_takes_the_password_and_the_old_one_is_told(self) -> None:
        self.as_("owner")
        for password in ("", "wrong", scenes.PASSWORD.upper()):
            answer = self.client.post(reverse("letters"), {"address": "new@tern.example", "password": password})
            self.assertContains(answer, "not your password", status_code=422)
            self.assertEqual(self.owner().email, "owner@tern.example")
        self.client.post(reverse("letters"), {"address": "new@tern.example", "password": scenes.PASSWORD})
        self.assertEqual(self.owner().email, "new@tern.example")
        self.assertEqual(self.queued(), [{"person_id": self.owner().pk, "address": "owner@tern.example", "what": "address"}])
        tell_of_change(**self.queued()[0])
        self.assertEqual(mail.outbox[-1].to, ["owner@tern.example"])
        self.assertIn(CHANGED["address"], mail.outbox[-1].body)

    def queued(self) -> list[dict[str, object]]:
        from procrastinate.contrib.django.models import ProcrastinateJob

        return [job.args for job in ProcrastinateJob.objects.filter(task_name="didactor.people.jobs.tell_of_change")]

    def test_which_letters_come_is_chosen_without_a_password(self) -> None:
        self.as_("owner")
        self.assertEqual(self.client.post(reverse("letters"), {"address": "owner@tern.example", "wanted": []}).status_code, 302)
        self.assertEqual(self.queued(), [])

    def test_a_new_password_ends_sessions_is_told_and_does_not_pass_the_second_factor(self) -> None:
        owner = self.owner()
        device = second_factor.begun(owner)
        device.confirmed = True
        device.save()
        elsewhere = self.client_class()
        elsewhere.force_login(owner, backend=BACKEND)
        send_reset(person_id=owner.pk)
        path = next(word for word in mail.outbox[-1].body.split() if "/forgotten/" in word)
        opened = self.client.get(path[path.index("/forgotten/") :], follow=True)
        self.client.post(opened.request["PATH_INFO"], {"new_password1": "new-reef-93-lantern", "new_password2": "new-reef-93-lantern"})
        self.assertTrue(self.owner().check_password("new-reef-93-lantern"))
        self.assertEqual([sent["what"] for sent in self.queued()], ["password"])
        self.assertNotIn("_auth_user_id", self.client.session)
        self.assertEqual(elsewhere.get(reverse("people:account")).status_code, 302)
        answer = self.client.post(
            reverse("people:sign_in"), {"teacher-username": owner.username, "teacher-password": "new-reef-93-lantern"}
        )
        self.assertEqual(answer["Location"], reverse("people:second"))
        self.assertNotIn("_auth_user_id", self.client.session)

    def test_an_invitation_is_the_owners_alone(self) -> None:
        self.as_("colleague")
        self.client.post(reverse("people:account"), {"invited": "Somebody"})
        self.assertFalse(self.owner().studio.invitations.exists())
        with self.assertRaises(accounts.AccountRefused):
            accounts.invite(owner=self.people["colleague"], name="Somebody")
