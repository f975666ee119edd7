"""What is said to people is said in their language: nothing is forgotten, nothing that a program reads changes with it."""

from __future__ import annotations

import ast
import contextlib
import re
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from html.parser import HTMLParser
from pathlib import Path
from unittest import mock

from django.apps import apps
from django.conf import settings
from django.core.management import call_command
from django.db import models
from django.http import HttpResponse
from django.test import SimpleTestCase, TestCase, override_settings
from django.urls import reverse
from django.utils import timezone, translation

from didactor.assignments.models import Assignment
from didactor.letters.models import Letter
from didactor.letters.writing import write_all
from didactor.people.models import Person
from didactor.review.models import Mark
from didactor.review.services import decide_mark, open_review
from didactor.takes.models import Analysis, Submission
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.apps.test_permissions import EveryAddressScene
from tests.apps.who_may import EXPECTED, PUBLIC

LOCALE = settings.ROOT / "didactor" / "locale"
WORD = re.compile(r"[A-Za-zÀ-ÿ]+")
#: Attributes that are read out or shown; all others are for programs.
SHOWN = ("title", "aria-label", "alt", "placeholder", "label", "data-first", "data-often", "data-title")
#: What is the same in every language: names, formats, letters of notes, units, signs.
SAME = {
    *[
        "Didactor",
        "English",
        "Deutsch",
        "Browser",
        "MusicXML",
        "MIDI",
        "ABC",
        "ChordPro",
        "CSV",
        "PDF",
        "JPEG",
        "PNG",
        "WebP",
        "MP",
        "ms",
        "dB",
        "Hz",
    ],
    *"ABCDEFGHs",
}
#: What is said between beats, and for values: the studio's own words, where it has some.
SAME |= {*["ta", "ti", "ri", "trip", "let", "e", "a"]}
#: The beginning of a tune in the small editor.
SAME |= {*["At", "the", "slipway", "X", "T", "M", "L", "K", "z"]}


class Shown(HTMLParser):
    """Texts and shown attributes of a page, each with what of it stands outside of brackets, and all that programs read."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.texts: list[tuple[str, str]] = []
        self.rest: list[tuple[str, str, str | None]] = []
        self.silent, self.depth = 0, 0
        self.feed(page)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.silent += tag in ("script", "style")
        for name, value in attrs:
            if name in SHOWN:
                self.texts.append((value or "", outside(value or "")[0]))
            else:
                self.rest.append((tag, name, value))

    def handle_endtag(self, tag: str) -> None:
        self.silent -= tag in ("script", "style")

    def handle_data(self, data: str) -> None:
        if not self.silent and data.strip():
            # A message may have markup in it: what was opened before is open still.
            left, self.depth = outside(data, self.depth)
            self.texts.append((data, left))


@contextmanager
def wrapped() -> Iterator[None]:
    """Every message stands in brackets: what stands outside was not translated."""

    def one(message: str) -> str:
        return f"⟦{message}⟧" if message else ""

    def by_count(singular: str, plural: str, number: int) -> str:
        return one(singular if number == 1 else plural)

    real = translation._trans  # type: ignore[attr-defined]
    with (
        mock.patch.object(real, "gettext", one, create=True),
        mock.patch.object(real, "ngettext", by_count, create=True),
        mock.patch.object(real, "pgettext", lambda context, message: one(message), create=True),
        mock.patch.object(real, "npgettext", lambda context, *args: by_count(*args), create=True),
    ):
        yield


def outside(text: str, depth: int = 0) -> tuple[str, int]:
    """What is left of a text without what stands in brackets, and how many are open at its end."""
    left = []
    for letter in text:
        depth += letter == "⟦"
        if depth == 0:
            left.append(letter)
        depth -= letter == "⟧"
    return "".join(left), depth


class EveryPageSpeaks(EveryAddressScene, TestCase):
    maxDiff = None

    def pages(self) -> Iterator[tuple[str, str, str]]:
        for who in ("teacher", "ylva", "guardian"):
            for name in sorted({*EXPECTED, *PUBLIC}):
                if (who not in EXPECTED.get(name, {who})) or name in (
                    "people:sign_out",
                    "assignments:calendar",
                    "words",
                    "progress:term_paper",
                ):
                    continue
                self.people[who].refresh_from_db()
                self.client.force_login(self.people[who], backend="didactor.people.backends.PasswordBackend")
                query = {"passage": self.scene.passage.pk} if name in ("assign", "assignments:parts_fragment") else {}
                answer = self.client.get(reverse(name, args=self.arguments.get(name, [])), query)
                if answer.status_code in (200, 404, 422) and "html" in answer.get("Content-Type", ""):
                    yield who, name, answer.content.decode()

    def test_nothing_is_left_in_english(self):
        own = set(SAME)
        for model in apps.get_models():
            texts = [f.name for f in model._meta.fields if isinstance(f, models.CharField | models.TextField)]
            for row in model._default_manager.values_list(*texts) if texts else ():
                for value in row:
                    # Names and titles, not what a program calls a state.
                    own |= set(WORD.findall(str(value))) if str(value) != str(value).lower() else set()
        own |= {word for part in self.scene.passage.revision.parts for word in WORD.findall(part["name"])}
        found: dict[str, set[str]] = {}
        with wrapped():
            for _, name, page in self.pages():
                for text, left in Shown(page).texts:
                    words = [word for word in WORD.findall(re.sub(r"[-\w]*\d[-\w]*", "", left)) if word not in own]
                    if words:
                        found.setdefault(" ".join(text.split())[:160], set()).add(name)
        self.assertEqual({}, {text: sorted(names)[:2] for text, names in found.items()})

    def test_what_programs_read_is_the_same_in_every_language(self):
        """Numbers above all: 92.5 in an attribute must not become 92,5."""
        # Whatever is made when it is first asked for is there now.
        list(self.pages())
        english = {(who, name): Shown(page).rest for who, name, page in self.pages()}
        self.client.cookies[settings.LANGUAGE_COOKIE_NAME] = "de"
        for who, name, page in self.pages():
            with self.subTest(who=who, name=name):
                self.assertIn('<html lang="de"' if "<html" in page else "", page)
                if name != "study":  # its names of notes begin with those of the language
                    self.assertEqual(_steady(english[who, name]), _steady(Shown(page).rest))


def _steady(rest: list[tuple[str, str, str | None]]) -> list[tuple[str, str, str | None]]:
    """Without what is new each time, and without what chooses or names the language."""
    changing = {("html", "lang"), ("script", "src"), ("button", "lang")}
    tokens = re.compile(r"^[\w-]{16,}$|X-CSRFToken|data:image|\.ics$")
    words_typed = re.compile(r"[a-zäöü]{3} ")
    return [
        (tag, name, value)
        for tag, name, value in rest
        if (tag, name) not in changing
        and not tokens.search(value or "")
        and value not in ("de", "en")
        and not (tag == "input" and name == "value" and words_typed.search(value or ""))
    ]


class LiteralTests(SimpleTestCase):
    """Words that no page shows when it is opened: what scripts say, and what follows a form that was sent."""

    #: What a program is called by, or reads.
    NOT_SAID = re.compile(r"didactor [a-z]+|[a-z]+ at|use strict|stone at|in tune")

    def test_scripts_say_nothing_that_is_not_a_message(self):
        sentence = re.compile(r"[A-Z][a-zé]+(?: [a-z]+)+|[A-Z][a-z]+[.…]|[a-z]{2,} [a-z]{2,}(?: [a-z]+)*")
        found = []
        for path in sorted((settings.ROOT / "didactor" / "static" / "js").glob("*.js")):
            code = re.sub(r"(?m)^\s*//.*$|/\*[\s\S]*?\*/", lambda m: "\n" * m[0].count("\n"), path.read_text())
            # What stands in the call of a message, values and all, is one.
            said = re.sub(r"(?:worded|counted)\((?:[^()]|\([^()]*\))*\)", lambda m: " " * len(m[0]), code)
            for match in re.finditer(r'"((?:[^"\\\n]|\\.)*)"|`((?:[^`\\]|\\.)*)`', said):
                text = match[1] or match[2] or ""
                before = said[max(0, match.start() - 50) : match.start()]
                if re.search(
                    r"(querySelector\w*|closest|matches|part|on|import|from|getContext|className =|setAttribute|dispatch\w*)[ (]*$", before
                ):
                    continue
                if sentence.fullmatch(text.strip()) and not self.NOT_SAID.fullmatch(text):
                    found.append(f"{path.name}: {text}")
        self.assertEqual([], found)

    maxDiff = None

    def test_answers_to_forms_are_messages(self):
        """``messages.success(request, ..)``, ``add_error(.., ..)`` and errors with words: no text as it stands."""
        found = []
        for path in sorted((settings.ROOT / "didactor").rglob("*.py")):
            # The command line speaks English.
            if "migrations" in path.parts or path.name == "cli.py" or path.parts[-2:] == ("archive", "reading.py"):
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.Call) and re.search(
                    r"^messages\.\w+$|\.add_error$|(Refused|PassageError|ScoreError|AudioError)$", ast.unparse(node.func)
                ):
                    said = node.args[1:] if "Refused" not in ast.unparse(node.func) else node.args
                    for argument in said:
                        whole = ast.walk(argument) if isinstance(argument, ast.IfExp | ast.BinOp | ast.JoinedStr) else [argument]
                        texts = [part for part in whole if isinstance(part, ast.Constant) and isinstance(part.value, str)]
                        inside = {id(x) for call in ast.walk(argument) if isinstance(call, ast.Call) for x in ast.walk(call)}
                        found += [
                            f"{path.name}:{t.lineno}: {t.value}"
                            for t in texts
                            if id(t) not in inside and re.search("[A-Za-z]{2}.* ", t.value)
                        ]
        self.assertEqual([], found)


class CatalogueTests(SimpleTestCase):
    """Of GNU gettext: what is kept in ``didactor/locale``."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        shutil.copytree(LOCALE, cls.folder / "locale")
        for source in (settings.ROOT / "didactor").iterdir():
            if source.name != "locale":
                (cls.folder / source.name).symlink_to(source)
        # Collected anew: what is new in the sources has no words yet, what is gone from them is gone.
        with override_settings(LOCALE_PATHS=[str(cls.folder / "locale")]), contextlib.chdir(cls.folder):
            call_command("messages", symlinks=True, verbosity=0)

    def messages(self, code: str, domain: str, folder: Path | None = None) -> dict[str, tuple[str, ...]]:
        """Every message (its context before, its plural after it) with what is said for it."""
        path = (folder or self.folder / "locale") / code / "LC_MESSAGES" / f"{domain}.po"
        found: dict[str, tuple[str, ...]] = {}
        for block in path.read_text().split("\n\n")[1:]:
            parts: dict[str, str] = {}
            for line in block.splitlines():
                if match := re.match(r'(msg\w+(?:\[\d\])?) (".*")$', line):
                    name = match[1]
                    parts[name] = ast.literal_eval(match[2])
                elif line.startswith('"'):
                    parts[name] += ast.literal_eval(line)
            key = "\x04".join(parts[n] for n in ("msgctxt", "msgid", "msgid_plural") if n in parts)
            found[key] = tuple(text for n, text in parts.items() if n.startswith("msgstr"))
        return found

    def test_german_says_everything(self):
        for domain in ("django", "djangojs"):
            messages = self.messages("de", domain)
            self.assertGreater(len(messages), 100)
            self.assertEqual([], [key for key, said in messages.items() if not all(said)], domain)

    def test_what_is_kept_is_what_is_said(self):
        for code in ("de", "en_GB"):
            for domain in ("django", "djangojs"):
                kept, collected = set(self.messages(code, domain, LOCALE)), set(self.messages(code, domain))
                self.assertEqual((set(), set()), (collected - kept, kept - collected), "run manage.py messages")

    def test_values_and_markup_are_those_of_the_message(self):
        values = re.compile(r"%\(\w+\)s|\{\w+(?:[:!][^}]*)?\}")
        for code in ("de", "en_GB"):
            for domain in ("django", "djangojs"):
                for key, said in self.messages(code, domain).items():
                    if not any(said):
                        continue
                    # With one of something its number may be left out.
                    whole = key.rpartition("\x04")[2]
                    self.assertEqual(sorted(values.findall(whole)), sorted(values.findall(said[-1])), key)
                    for text in said:
                        self.assertLessEqual(set(values.findall(text)), set(values.findall(key)), key)
                        self.assertEqual(re.findall(r"<[^>]+>", whole), re.findall(r"<[^>]+>", text), key)

    def test_crotchets_are_said_wherever_there_are_quarters(self):
        value = re.compile(r"(?i)\b(quarters? (?!of an hour)|quarters?$|eighths?\b|sixteenths?\b)")
        for key, said in self.messages("en_GB", "django").items():
            # Parts of a beat, and what the choice itself is called.
            if value.search(key) and key not in ("quarters", "whole, half, quarter, eighth"):
                self.assertTrue(said[0], key)
                self.assertIsNone(value.search(said[0]), key)


class SpokenTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.take = scenes.recorded(cls.scene, {"kind": "wrong", "bar": "6", "beat": 0.0})

    def page(self, person: Person, name: str = "home", *args: object, **headers: str) -> str:
        self.client.force_login(person, backend="didactor.people.backends.PasswordBackend")
        return self.client.get(reverse(name, args=args), headers=headers, follow=True).content.decode()

    def choose(self, language: str, **more: str) -> HttpResponse:
        return self.client.post(reverse("people:choose_language"), {"language": language, **more})

    def test_a_browser_says_what_its_reader_speaks(self):
        for asked, shown in (("de-CH,de;q=0.9", "Diese Woche"), ("fr", "This week"), ("", "This week"), ("x" * 600, "This week")):
            self.assertIn(shown, self.page(self.scene.ylva.student, **({"accept-language": asked} if asked else {})))

    def test_a_choice_holds_on_every_device_and_before_signing_in(self):
        self.choose("de", next="/sign-in/")
        self.assertContains(self.client.get("/sign-in/"), "Mit deiner Karte")
        self.page(self.scene.ylva.student)
        self.choose("de")
        self.client.cookies.clear()
        self.assertIn("Diese Woche", self.page(self.scene.ylva.student, **{"accept-language": "en"}))

    def test_what_is_no_language_changes_nothing_and_nobody_is_led_away(self):
        self.page(self.scene.ylva.student)
        for language in ("fr", "en-gb", "", "²", "de" * 500):
            self.assertEqual(self.choose(language, next="https://elsewhere.example/")["Location"], "/")
        self.assertEqual(Person.objects.get(pk=self.scene.ylva.student_id).language, "")
        self.assertEqual(self.client.get(reverse("people:choose_language")).status_code, 405)

    def test_the_owners_language_is_that_of_the_studio(self):
        studio = self.scene.teacher.studio
        for person, language in ((self.scene.ylva.student, ""), (self.scene.teacher, "de")):
            self.page(person)
            self.choose("de")
            studio.refresh_from_db()
            self.assertEqual(studio.language, language)

    def test_what_was_heard_is_said_to_each_reader_in_theirs(self):
        submit_take(take=self.take)
        Person.objects.filter(pk=self.scene.teacher.pk).update(language="de")
        analysis = Analysis.objects.get()
        self.assertIn("is written", next(f["text"] for f in analysis.result["findings"] if f["code"] == "notes.wrong"))
        german = self.page(Person.objects.get(pk=self.scene.teacher.pk), "take", self.take.pk)
        self.assertIn("Takt 6, Schlag 1: Fis steht da", german)
        self.assertNotIn("is written", german)
        mark = Mark.objects.order_by("pk").first()
        self.assertIn("steht da", _in("de", mark))
        self.assertIn("is written", _in("en", mark))
        self.assertIn("Takt 6, Schlag 1", self.page(Person.objects.get(pk=self.scene.teacher.pk)))

    def test_a_teachers_own_words_stay_as_they_were_typed(self):
        submit_take(take=self.take)
        review = open_review(submission=Submission.objects.get(), teacher=self.scene.teacher)
        mark = review.marks.first()
        for text in ("Not judged.", "Notes", '\x1f{"words": "Notes"}', "{bar}"):
            decide_mark(mark=mark, standing="kept", text=text)
            self.assertEqual(_in("de", mark), text.replace("\x1f", ""))

    def test_notes_are_called_as_the_studio_calls_them(self):
        submit_take(take=self.take)
        studio = self.scene.teacher.studio
        for naming, crotchets, language, words in (
            ("", False, "", ("F sharp is written", "quarter = 92")),
            ("fixed_do", False, "", ("fa sharp is written", "quarter = 92")),
            ("german", True, "", ("Fis is written", "crotchet = 92")),
            ("letters", True, "de", ("F mit Kreuz steht da", "Viertel = 92")),
            ("", False, "de", ("Fis steht da", "Viertel = 92")),
        ):
            studio.note_naming, studio.crotchets = naming, crotchets
            studio.save()
            Person.objects.filter(pk=self.scene.teacher.pk).update(language=language)
            page = self.page(Person.objects.get(pk=self.scene.teacher.pk), "take", self.take.pk)
            for text in words:
                self.assertIn(text, page, (naming, language))

    def test_a_teacher_chooses_the_names(self):
        self.page(self.scene.teacher)
        self.client.post(reverse("people:note_names"), {"naming": "fixed_do", "values": "crotchets"})
        studio = Person.objects.get(pk=self.scene.teacher.pk).studio
        self.assertEqual((studio.note_naming, studio.crotchets), ("fixed_do", True))
        self.assertContains(self.client.get(reverse("people:note_names")), '<option value="fixed_do" selected')
        self.assertEqual(self.client.post(reverse("people:note_names"), {"naming": "klingon"}).status_code, 200)
        studio.refresh_from_db()
        self.assertEqual(studio.note_naming, "fixed_do")

    def test_a_letter_is_in_the_language_of_whom_it_is_to(self):
        student = self.scene.ylva.student
        student.email, student.is_minor = "ylva@tern.example", False
        student.save()
        self.scene.teacher.studio.language = "de"
        self.scene.teacher.studio.save()
        now = timezone.localtime().replace(hour=16)
        translation.activate("en")
        Assignment.objects.update(due_at=now + timedelta(hours=30))
        write_all(now)
        letter = Letter.objects.get(kind="due_soon")
        self.assertEqual(letter.subject, "Bald fällig")
        self.assertIn("Guten Tag, ", letter.body)
        Letter.objects.all().delete()
        Person.objects.filter(pk=student.pk).update(language="en")
        write_all(now)
        self.assertEqual(Letter.objects.get(kind="due_soon").subject, "Due soon")
        self.assertEqual(translation.get_language(), "en")

    def test_scripts_bring_their_messages_along(self):
        german = re.search(r'src="(/words/de-\w+\.js)"', self.page(self.scene.ylva.student, **{"accept-language": "de"}))
        answer = self.client.get(german[1])
        self.assertIn("max-age=31536000", answer["Cache-Control"])
        self.assertIn("Es wird eingez\\u00e4hlt \\u2026", answer.content.decode())
        self.assertNotIn("/words/", self.page(self.scene.ylva.student))
        self.assertEqual(self.client.get("/words/de-0.js").content, answer.content)
        for code in ("fr", "..", "de_DE", "x" * 300):
            self.assertEqual(self.client.get(f"/words/{code}-0.js").status_code, 404)

    def test_drawings_of_one_language_are_not_shown_in_another(self):
        submit_take(take=self.take)
        teacher = Person.objects.get(pk=self.scene.teacher.pk)
        self.assertIn(">placement<", self.page(teacher, "take", self.take.pk))
        self.assertIn(">Zeitpunkt<", self.page(teacher, "take", self.take.pk, **{"accept-language": "de"}))


def _in(language: str, mark: Mark) -> str:
    with translation.override(language):
        return Mark.objects.get(pk=mark.pk).text
