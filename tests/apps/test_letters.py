"""Letters: what is told to whom, once; what nobody wants; and a mail server that fails."""

from __future__ import annotations

from datetime import datetime, timedelta
from unittest import mock

from django.core import mail
from django.test import Client, TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Assignment, Task
from didactor.letters.models import Choice, Kind, Letter
from didactor.letters.sending import send_waiting
from didactor.letters.writing import stop_key, write_all
from didactor.people.models import Person
from didactor.people.services import record_consent
from didactor.review.models import Review
from didactor.takes.models import Submission, Take
from tests import scene as scenes
from tests.music import tone

NOON = timezone.make_aware(datetime(2027, 3, 3, 12, 0))
AFTERNOON = NOON.replace(hour=16)


class LettersScene(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.teacher, cls.ylva, cls.ossian = cls.scene.teacher, cls.scene.ylva.student, cls.scene.ossian.student
        cls.runa = cls.scene.guardian
        record_consent(student=cls.ossian, given_by="Runa", recorded_by=cls.teacher)
        for person in (cls.teacher, cls.ylva, cls.ossian, cls.runa):
            Person.objects.filter(pk=person.pk).update(email=f"{person.pk}@tern.example")
            person.refresh_from_db()
        Assignment.objects.update(due_at=NOON + timedelta(days=30))

    def handed_in(self, task: Task, at: datetime, answered: datetime | None = None) -> Submission:
        take = scenes.recorded_by(task, data=tone(1.0 + 0.01 * Take.objects.count()))
        Task.objects.filter(pk=task.pk).update(state="handed_in")
        Take.objects.filter(pk=take.pk).update(state="analysed")
        submission = Submission.objects.create(take=take)
        Submission.objects.filter(pk=submission.pk).update(submitted_at=at)
        if answered:
            Review.objects.create(submission=submission, teacher=self.teacher, decision="passed", sent_at=answered)
            Submission.objects.filter(pk=submission.pk).update(answered_at=answered)
        return submission

    def written(self, now: datetime) -> list[tuple[Person, str, str]]:
        before = set(Letter.objects.values_list("pk", flat=True))
        write_all(now)
        return [(letter.person, letter.kind, letter.body) for letter in Letter.objects.exclude(pk__in=before).order_by("pk")]


class WritingTests(LettersScene):
    def test_a_teacher_hears_of_takes_together_at_most_every_hour_and_of_none_twice(self):
        self.handed_in(self.scene.task, NOON - timedelta(minutes=10))
        self.handed_in(self.scene.other_task, NOON - timedelta(minutes=5))
        [(person, kind, body)] = self.written(NOON)
        self.assertEqual((person, kind), (self.teacher, "handed_in"))
        self.assertIn("Ylva: Test tune, whole\nOssian: Test tune, whole", body)
        self.assertEqual(Letter.objects.get().subject, "2 takes on your desk")
        self.assertEqual(self.written(NOON + timedelta(minutes=30)), [])
        self.assertEqual(self.written(NOON + timedelta(hours=2)), [])
        self.handed_in(self.scene.task, NOON + timedelta(minutes=20))
        self.assertEqual(self.written(NOON + timedelta(minutes=30)), [], "within the hour it waits")
        [(_, _, later)] = self.written(NOON + timedelta(hours=2))
        self.assertNotIn("Ossian", later)

    def test_an_answer_goes_to_the_student_and_a_child_s_to_the_guardians_alone(self):
        self.handed_in(self.scene.task, NOON - timedelta(days=9), answered=NOON - timedelta(hours=1))
        self.handed_in(self.scene.other_task, NOON - timedelta(days=9), answered=NOON - timedelta(hours=1))
        letters = self.written(NOON)
        self.assertEqual({(person, kind) for person, kind, _ in letters}, {(self.ylva, "answered"), (self.runa, "answered")})
        bodies = {person: body for person, _, body in letters}
        self.assertIn("has answered your take", bodies[self.ylva])
        self.assertIn("has answered Ossian’s take", bodies[self.runa])
        self.assertEqual(self.written(NOON + timedelta(minutes=5)), [])

    def test_old_news_is_no_news(self):
        self.handed_in(self.scene.task, NOON - timedelta(days=5), answered=NOON - timedelta(days=3))
        self.handed_in(self.scene.other_task, NOON - timedelta(days=3))
        self.assertEqual(self.written(NOON), [])

    def test_what_is_due_soon_is_told_once_a_day_in_the_afternoon(self):
        Assignment.objects.update(due_at=AFTERNOON + timedelta(hours=20))
        self.assertEqual(self.written(NOON), [])
        letters = self.written(AFTERNOON)
        self.assertEqual({(person, kind) for person, kind, _ in letters}, {(self.ylva, "due_soon"), (self.runa, "due_soon")})
        self.assertIn("Test tune, whole, due Thursday 12:00", {p: b for p, _, b in letters}[self.ylva])
        self.assertIn("Ossian: Test tune", {p: b for p, _, b in letters}[self.runa])
        self.assertEqual(self.written(AFTERNOON + timedelta(hours=2)), [])

    def test_what_is_handed_in_withdrawn_or_due_later_is_not_due_soon(self):
        Assignment.objects.update(due_at=AFTERNOON + timedelta(hours=20))
        Task.objects.filter(pk=self.scene.task.pk).update(state="handed_in")
        Task.objects.filter(pk=self.scene.other_task.pk).update(withdrawn_at=NOON)
        self.assertEqual(self.written(AFTERNOON), [])
        Task.objects.update(state="open", withdrawn_at=None, own_due_at=AFTERNOON + timedelta(days=5))
        self.assertEqual(self.written(AFTERNOON), [])
        Assignment.objects.update(due_at=AFTERNOON + timedelta(days=9))
        Task.objects.filter(pk=self.scene.task.pk).update(own_due_at=AFTERNOON + timedelta(hours=3))
        self.assertEqual([person for person, _, _ in self.written(AFTERNOON)], [self.ylva])

    def test_without_an_address_or_where_it_is_not_wanted_nothing_is_written(self):
        self.handed_in(self.scene.task, NOON - timedelta(days=9), answered=NOON - timedelta(hours=1))
        Choice.objects.create(person=self.ylva, not_wanted=["due_soon"])
        Person.objects.filter(pk=self.ylva.pk).update(email="")
        self.assertEqual(self.written(NOON), [])
        Person.objects.filter(pk=self.ylva.pk).update(email="y@tern.example")
        self.assertEqual(len(self.written(NOON)), 1, "another kind is not meant")
        Letter.objects.all().delete()
        Choice.objects.update(not_wanted=["answered"])
        self.assertEqual(self.written(NOON), [])


class SendingTests(LettersScene):
    def letter(self, about: str = "1", **fields: object) -> Letter:
        values = {"subject": "S", "body": "B", "address": "y@tern.example", "made_at": NOON, "kind": "answered", **fields}
        return Letter.objects.create(person=self.ylva, about=about, **values)

    def test_each_goes_out_once_with_a_way_to_end_it(self):
        self.letter()
        self.assertEqual((send_waiting(NOON), send_waiting(NOON)), (1, 0))
        [message] = mail.outbox
        self.assertEqual((message.to, message.subject), (["y@tern.example"], "S"))
        self.assertIn("/letters/stop/", message.extra_headers["List-Unsubscribe"])

    def test_one_that_fails_stops_no_other_and_is_tried_later_and_later_and_then_no_more(self):
        broken = self.letter(subject="a\nb")
        self.letter(about="2")
        self.assertEqual(send_waiting(NOON), 1)
        broken.refresh_from_db()
        self.assertEqual((broken.tries, broken.sent_at), (1, None))
        self.assertTrue(broken.trouble)
        now, waits = NOON, []
        for minute in range(1, 60 * 24):
            now = NOON + timedelta(minutes=minute)
            send_waiting(now)
            before, broken.tries = broken.tries, Letter.objects.get(pk=broken.pk).tries
            if broken.tries > before:
                waits.append(minute)
        self.assertEqual(waits, [10, 30, 70, 150])

    def test_nothing_is_locked_while_the_server_takes_its_time(self):
        self.letter()

        def slowly(*_: object) -> None:
            self.assertEqual(Letter.objects.get().tries, 1)
            self.assertFalse(Letter.objects.to_be_sent(NOON).exists(), "another worker leaves it alone")

        with mock.patch("didactor.letters.sending.EmailMessage.send", slowly):
            self.assertEqual(send_waiting(NOON), 1)


class PagesTests(LettersScene):
    def setUp(self):
        self.client.force_login(self.ylva, backend="didactor.people.backends.CardBackend")

    def test_one_chooses_an_address_and_what_is_wanted(self):
        answer = self.client.post(reverse("letters"), {"address": "new@tern.example", "wanted": ["due_soon"]}, follow=True)
        self.assertContains(answer, "Kept.")
        self.ylva.refresh_from_db()
        self.assertEqual((self.ylva.email, Choice.objects.get().not_wanted), ("new@tern.example", ["answered"]))
        page = self.client.get(reverse("letters"))
        self.assertContains(page, 'value="due_soon" id="id_wanted_1" checked')
        self.assertNotContains(page, 'value="answered" id="id_wanted_0" checked')
        self.assertNotContains(page, "handed_in")

    def test_what_is_no_address_is_refused_and_nothing_is_lost(self):
        for address in ("nobody", "a@b\nBcc: x@y.z", "a@"):
            self.assertEqual(self.client.post(reverse("letters"), {"address": address, "wanted": ["answered"]}).status_code, 422)
        self.assertEqual(self.client.post(reverse("letters"), {"address": "", "wanted": ["handed_in"]}).status_code, 422)
        self.ylva.refresh_from_db()
        self.assertEqual(self.ylva.email, f"{self.ylva.pk}@tern.example")
        self.assertFalse(Choice.objects.exists())

    def test_the_link_in_a_letter_asks_first_and_then_ends_that_kind(self):
        stranger = Client(enforce_csrf_checks=True)
        url = reverse("letters:stop", args=[stop_key(self.ylva, Kind.DUE_SOON)])
        self.assertContains(stranger.get(url), "No more of these")
        self.assertFalse(Choice.objects.exists())
        for _ in range(2):
            self.assertContains(stranger.post(url), "No more letters about this")
        self.assertEqual(Choice.objects.get().not_wanted, ["due_soon"])
        right = url.split("/")[-2]
        for key in ("x", right[:-1] + ("B" if right[-1] == "A" else "A"), "²"):
            self.assertEqual(stranger.post(reverse("letters:stop", args=[key])).status_code, 404)

    def test_the_mailbox_shows_the_studio_s_letters_and_no_other_s(self):
        Letter.objects.create(person=self.ylva, about="1", subject="Ours", body="B", address="y@t.example", made_at=NOON, kind="answered")
        other = scenes.teacher("Elsewhere", "elsa")
        Letter.objects.create(person=other, about="1", subject="Theirs", body="B", address="e@t.example", made_at=NOON, kind="handed_in")
        self.client.force_login(self.teacher, backend="didactor.people.backends.PasswordBackend")
        page = self.client.get(reverse("letters:mailbox"))
        self.assertContains(page, "Ours")
        self.assertContains(page, "nobody gets them")
        self.assertNotContains(page, "Theirs")
