"""A class comes in by a list: looked at first, added with cards; names change later."""

from __future__ import annotations

from datetime import timedelta

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.people.models import Enrolment, Person, SignInCard
from didactor.people.roll import MOST_LINES, read_roll
from tests import scene as scenes

URL = "people:add_roll"


class RollTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build()
        cls.studio = cls.scene.teacher.studio

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")

    def rows(self, text, group=""):
        return read_roll(text, self.studio, group)

    def test_commas_semicolons_and_tabs_separate_and_quotes_keep_a_comma(self):
        for separator in ",;\t":
            row = self.rows(separator.join(["Ada Holm", "Clarinet", "inter", "Band", "Eva Holm"]))[0]
            self.assertEqual(
                (row.name, row.instrument, row.level, row.group, row.guardian), ("Ada Holm", "clarinet", "intermediate", "Band", "Eva Holm")
            )
        self.assertEqual(self.rows('"Holm, Ada", Flute')[0].name, "Holm, Ada")

    def test_a_first_line_names_the_columns_in_any_order(self):
        row = self.rows("Instrument;Student;Minor\nTuba;Ada Holm;x")[0]
        self.assertEqual((row.name, row.instrument, row.is_minor, row.problem), ("Ada Holm", "tuba", True, ""))

    def test_a_guardian_makes_under_age_unless_the_list_says_no(self):
        both = self.rows("A B, Flute, , , Eva\nC D, Flute, , , Eva, no\nE F, Flute")
        self.assertEqual([row.is_minor for row in both], [True, False, False])

    def test_what_cannot_be_read_is_said_of_its_line(self):
        lines = {
            "Ada Holm": "no instrument",
            ", Flute": "no name",
            "Ada Holm, Kazookle": "Kazookle",
            "Ada Holm, Flute, wizard": "wizard",
            "Ada Holm, Flute, , , , perhaps": "perhaps",
            "Ada Holm, Flute": "",
            "ada holm, flute": "twice",
            "x" * 130 + ", Flute": "at most 120",
        }
        for row, words in zip(self.rows("\n".join(lines)), lines.values(), strict=True):
            self.assertIn(words, row.problem)
            self.assertEqual(bool(row.problem), bool(words))

    def test_a_list_too_long_says_so_of_what_is_left(self):
        rows = self.rows("\n".join(f"Student {n}, Flute" for n in range(MOST_LINES + 2)))
        self.assertEqual([bool(row.problem) for row in rows], [False] * MOST_LINES + [True] * 2)

    def test_looking_keeps_nothing_and_gives_the_text_back(self):
        people = Person.objects.count()
        page = self.client.post(reverse(URL), {"text": "Ada Holm, Flute\nBo Lind, Kazookle", "group": "Band"})
        self.assertContains(page, "1 of 2 lines can be added")
        self.assertContains(page, "Bo Lind, Kazookle")
        self.assertEqual(Person.objects.count(), people)

    def test_sixty_students_come_in_at_once_each_with_a_card(self):
        text = "\n".join(f"Student {n:02d}, {'Flute' if n % 2 else 'Trumpet'}, beginner, , Guardian {n:02d}" for n in range(60))
        page = self.client.post(reverse(URL), {"text": text, "group": "Band", "add": "1"})
        self.assertContains(page, "60 students are added")
        self.assertContains(page, 'class="card-paper"', count=120)
        added = Enrolment.objects.filter(group__name="Band", student__is_minor=True)
        self.assertEqual(added.count(), 60)
        self.assertEqual(SignInCard.objects.filter(person__enrolments__group__name="Band").count(), 60)

    def test_who_is_here_already_stays_one_person(self):
        name = self.scene.ylva.student.name
        have = self.scene.ylva.instrument
        other = "tuba" if have != "tuba" else "flute"
        page = self.client.post(reverse(URL), {"text": f"{name}, {have}\n{name.upper()}, {other}", "add": "1"}, follow=True)
        self.assertContains(page, f"Another instrument: {name} (")
        self.assertEqual(Person.objects.filter(name__iexact=name).count(), 1)
        self.assertEqual(set(self.scene.ylva.student.enrolments.values_list("instrument", flat=True)), {have, other})

    def test_lines_not_understood_come_back_with_the_cards_to_be_mended(self):
        text = "Name, Instrument\nAda Holm, Flute\nBo Lind, Kazookle"
        page = self.client.post(reverse(URL), {"text": text, "group": "Band", "add": "1"})
        self.assertContains(page, "1 line could not be added")
        self.assertContains(page, 'value="Name, Instrument\nBo Lind, Kazookle"')

    def test_a_file_of_a_spreadsheet_is_read_in_its_encoding(self):
        for encoding in ("utf-8-sig", "utf-16", "cp1252"):
            file = SimpleUploadedFile("list.csv", "Name;Instrument\nZoë Ångström;Flute".encode(encoding))
            self.assertContains(self.client.post(reverse(URL), {"file": file}), "Zoë Ångström")
        page = self.client.post(reverse(URL), {"file": SimpleUploadedFile("list.csv", b"PK\x03\x04\0\0\0")})
        self.assertContains(page, "is no text")
        page = self.client.post(reverse(URL), {"file": SimpleUploadedFile("list.csv", b"a, b\n" * 50_000)})
        self.assertContains(page, "too large")
        self.assertContains(self.client.post(reverse(URL), {"text": " \n"}), "The list is empty")

    def test_cards_for_a_group_spare_those_who_have_one(self):
        self.client.post(reverse(URL), {"text": "Ada Holm, Flute\nBo Lind, Flute", "group": "Band", "add": "1"})
        group = Enrolment.objects.get(student__name="Ada Holm").group
        SignInCard.objects.get(person__name="Ada Holm").delete()
        kept = SignInCard.objects.get(person__name="Bo Lind").code_hash
        url = reverse("people:group_cards")
        page = self.client.post(url, {"group": group.pk, "whose": "without"})
        self.assertContains(page, 'class="card-paper"', count=1)
        self.assertEqual(SignInCard.objects.get(person__name="Bo Lind").code_hash, kept)
        self.assertContains(self.client.post(url, {"group": group.pk, "whose": "without"}, follow=True), "Everybody there has a card")
        self.assertContains(self.client.post(url, {"group": group.pk, "whose": "all"}), 'class="card-paper"', count=2)
        self.assertNotEqual(SignInCard.objects.get(person__name="Bo Lind").code_hash, kept)

    def test_a_group_of_another_studio_gets_no_cards_from_here(self):
        other = scenes.teacher("Inner dark", "stranger")
        self.client.force_login(other, backend="didactor.people.backends.PasswordBackend")
        before = dict(SignInCard.objects.values_list("person_id", "code_hash"))
        for group in (self.scene.ylva.group_id, "²", ""):
            self.client.post(reverse("people:group_cards"), {"group": group or 1, "whose": "all"})
        self.assertEqual(dict(SignInCard.objects.values_list("person_id", "code_hash")), before)

    def test_a_group_s_performance_has_a_day_or_none(self):
        group, url = self.scene.ylva.group, reverse("people:performance")
        day = timezone.localdate() + timedelta(days=12)
        page = self.client.post(url, {"performance-group": group.pk, "performance-on": day.isoformat()}, follow=True)
        self.assertContains(page, "practice is planned towards it")
        self.assertContains(page, f"{group}: {day:%A}")
        group.refresh_from_db()
        self.assertEqual(group.performs_on, day)
        for odd in ({"performance-group": group.pk, "performance-on": "soon"}, {"performance-group": "²"}, {}):
            self.client.post(url, odd)
        group.refresh_from_db()
        self.assertEqual(group.performs_on, day)
        self.client.post(url, {"performance-group": group.pk, "performance-on": ""})
        group.refresh_from_db()
        self.assertIsNone(group.performs_on)
        other = scenes.teacher("Inner dark", "stranger")
        self.client.force_login(other, backend="didactor.people.backends.PasswordBackend")
        self.client.post(url, {"performance-group": group.pk, "performance-on": day.isoformat()})
        group.refresh_from_db()
        self.assertIsNone(group.performs_on)

    def test_name_and_age_change_later(self):
        student = self.scene.ylva.student
        url = reverse("people:student", args=[student.pk])
        self.client.post(url, {"called": "Ylva Newname", "is_minor": "on"})
        student.refresh_from_db()
        self.assertEqual((student.name, student.is_minor), ("Ylva Newname", True))
        self.client.post(url, {"called": " "})
        student.refresh_from_db()
        self.assertEqual((student.name, student.is_minor), ("Ylva Newname", True))
        self.client.post(url, {"called": "Ylva Newname"})
        student.refresh_from_db()
        self.assertFalse(student.is_minor)
