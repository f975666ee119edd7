"""Every page that one gets to by links, as a teacher, a student and a guardian: readable by a screen reader and usable by keys alone.

WCAG 2.2 AA as far as axe can tell, no element that does not show that keys have reached it, nothing sideways to scroll on a telephone, and
no request to anybody else.
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from django.core.files.base import ContentFile
from django.test import override_settings
from playwright.sync_api import Page

from didactor.assignments.models import Assignment
from didactor.people.models import Person
from didactor.people.pictures import give, studio_code
from didactor.review.services import Draft, add_remark, open_review, send
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Take
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.browser.base import DESK, PHONE, BrowserTestCase
from tests.music import wav

AXE = Path(__file__).resolve().parents[2] / "node_modules" / "axe-core" / "axe.min.js"
TAGS = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
#: Elements that keys reach, in the order of the page; of a group of radio buttons one is reached.
TABBABLE = """() => [
  ...document.querySelectorAll('a[href], button, input, select, textarea, summary, [tabindex="0"], audio[controls], video[controls]'),
].filter((e) => !e.disabled && e.type !== 'hidden' && e.tabIndex >= 0 && !e.closest('[inert]')
  && e.checkVisibility({visibilityProperty: true})).length"""
#: What is focused, and whether one sees that.
FOCUSED = """() => {
  const e = document.activeElement;
  if (!e || e === document.body) return null;
  const style = getComputedStyle(e), box = e.getBoundingClientRect();
  const ring = (style.outlineStyle !== 'none' && parseFloat(style.outlineWidth) > 0) || style.boxShadow !== 'none';
  window.__seen ??= new Map();
  if (!window.__seen.has(e)) window.__seen.set(e, window.__seen.size);
  const inside = box.bottom > 0 && box.top < innerHeight && box.width > 0;
  return {number: window.__seen.get(e), ring, inside, what: e.outerHTML.slice(0, 160)};
}"""
DATE_STOPS = 8
#: Files and fragments, not pages; and what ends the session.
NO_PAGE = re.compile(r"/(sound|original|picture|file|score|card|why)/|\.(pdf|csv|wav|ics|mid|musicxml|json|zip)$|/as/|/sign-out/|/fragment")


class EveryPageTests(BrowserTestCase):
    def setUp(self) -> None:
        super().setUp()
        Assignment.objects.update(listen_first=False)
        take = scenes.recorded(self.scene, {"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2})
        review = open_review(submission=submit_take(take=Take.objects.get(pk=take.pk)), teacher=self.scene.teacher)
        add_remark(review=review, category="tone", text="A warm low register.", bar="7")
        send(review=review, draft=Draft(text="Well held.", decision="once_more"))
        other = scenes.recorded_by(scenes.another(self.scene, "Tove"), wav(seed=21))
        analyse_take(take_id=other.pk)
        submit_take(take=Take.objects.get(pk=other.pk))
        self.scene.task.reply_sound.save("x.mp4", ContentFile(b"x"))
        give(person=self.scene.ylva.student)
        self.requests: set[str] = set()

    def visit_all(self, person: Person, size: dict[str, int], paper: str = "light", language: str = "") -> int:
        page = self.page(person, size)
        Person.objects.filter(pk=person.pk).update(language=language)
        page.context.add_cookies([{"name": "paper", "value": paper, "url": self.live_server_url}])
        page.on("request", lambda request: self.requests.add(request.url))
        # What is reached is scrolled to at once.
        page.emulate_media(reduced_motion="reduce")
        todo, seen, found = [self.at("/")], set(), []
        while todo:
            url = todo.pop(0)
            kind = re.sub(r"\d+", "N", url.split("?")[0])
            if kind in seen:
                continue
            seen.add(kind)
            answer = page.goto(url)
            if answer is None or "html" not in answer.headers.get("content-type", "") or answer.status != 200:
                continue
            page.wait_for_load_state("load")
            found += [f"{page.url} {trouble}" for trouble in self.troubles_of(page, size)]
            links = page.evaluate("[...document.querySelectorAll('a[href]:not([download])')].map(a => a.href.split('#')[0])")
            todo += [link for link in links if link.startswith(self.live_server_url) and not NO_PAGE.search(link)]
        self.assertEqual(found, [], "\n".join(found))
        return len(seen)

    def troubles_of(self, page: Page, size: dict[str, int]) -> list[str]:
        result: Any = page.evaluate(
            f"async () => {{ {AXE.read_text()}; return await axe.run({{runOnly: {TAGS}, resultTypes: ['violations']}}); }}"
        )
        found = [f"axe {v['id']}: {n['html'][:160]}" for v in result["violations"] for n in v["nodes"][:2]]
        wide = page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
        found += [f"scrolls sideways by {wide}"] if wide > 1 else []
        return found + self.by_keys(page)

    def by_keys(self, page: Page) -> list[str]:
        """Tab through the page once: it goes on, comes round, and shows where it is."""
        found, numbers, stays = [], set(), 0
        # A field for a date has a stop for each of its parts.
        for _ in range(page.evaluate(TABBABLE) + 3 + DATE_STOPS * page.locator("input[type^=date]").count()):
            page.keyboard.press("Tab")
            now = page.evaluate(FOCUSED)
            if now is None or (now["number"] == 0 and len(numbers) > 1):
                return found
            stays = stays + 1 if now["number"] in numbers else 0
            if stays > DATE_STOPS:
                return [*found, f"keys do not get out of: {now['what']}"]
            if now["number"] not in numbers:
                found += [f"not seen to be reached: {now['what']}"] if not now["ring"] else []
                found += [f"reached out of sight: {now['what']}"] if not now["inside"] else []
            numbers.add(now["number"])
        return found

    def tearDown(self) -> None:
        ours = (self.live_server_url, "data:", "blob:")
        self.assertEqual({url for url in self.requests if not url.startswith(ours)}, set(), "asked of somebody else")
        super().tearDown()

    def test_as_a_teacher(self):
        self.assertGreater(self.visit_all(self.scene.teacher, DESK), 35)

    def test_as_a_student_on_a_telephone(self):
        self.assertGreater(self.visit_all(self.scene.ylva.student, PHONE), 8)

    def test_as_a_guardian_on_a_telephone_and_on_dark_paper(self):
        self.assertGreater(self.visit_all(self.scene.guardian, PHONE, paper="dark"), 4)

    def test_as_a_student_in_longer_words(self):
        self.assertGreater(self.visit_all(self.scene.ylva.student, PHONE, language="de"), 8)

    def test_from_right_to_left(self):
        with override_settings(LANGUAGES_BIDI=["de"]):
            self.assertGreater(self.visit_all(self.scene.ylva.student, PHONE, language="de"), 8)
            self.assertGreater(self.visit_all(self.scene.teacher, DESK, language="de"), 35)

    def test_before_signing_in(self):
        page = self.browser.new_context(viewport=PHONE).new_page()
        page.on("request", lambda request: self.requests.add(request.url))
        code = studio_code(self.scene.teacher.studio).replace("-", "")
        found = []
        for path in (
            "/sign-in/",
            "/forgotten/",
            "/pictures/",
            f"/pictures/{code}/",
            f"/pictures/{code}/{self.scene.ylva.student_id}/",
            "/offline/",
        ):
            page.goto(self.at(path))
            found += [f"{path} {trouble}" for trouble in self.troubles_of(page, PHONE)]
        page.context.close()
        self.assertEqual(found, [], "\n".join(found))
