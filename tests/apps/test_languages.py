"""What is said to people is said in their language: nothing is forgotten, nothing that a program reads changes with it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from html.parser import HTMLParser
from unittest import mock

from django.apps import apps
from django.conf import settings
from django.db import models
from django.test import TestCase
from django.urls import reverse
from django.utils import translation

from tests.apps.test_permissions import EveryAddressScene
from tests.apps.who_may import EXPECTED, PUBLIC

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
