"""A whole week at the stand, on a telephone and on a desk: of a student, of somebody who strums, of a child who does not read yet."""

from __future__ import annotations

import re
import tempfile
from collections.abc import Callable
from urllib.parse import quote

from playwright.sync_api import Page, expect

from didactor.assignments.models import Assignment, FoundOut, Task
from didactor.assignments.services import assign
from didactor.core.score.write.as_musicxml import Line, write_musicxml
from didactor.library.jobs import render_model
from didactor.library.models import ModelSound, Passage
from didactor.library.services import add_piece, cut_passage
from didactor.people.models import Enrolment
from didactor.people.services import add_student, record_consent
from didactor.practice.drilling import drill_data, drills_of
from didactor.practice.models import Attempt
from didactor.practice.music import music_of_stone
from didactor.practice.state import state_of
from didactor.review.services import Draft, open_review, save_draft, send
from didactor.takes.models import SelfReview, Take
from tests.browser.base import DESK, PHONE, BrowserTestCase
from tests.browser.student import playing, student_script

CHART = "x:q@G x:q x:q x:q | x:q@C x:q x:q x:q | x:q@D x:q x:q x:q | x:q@G x:q x:h"


class WeekTests(BrowserTestCase):
    def passage_of(self, line: Line, title: str) -> Passage:
        with tempfile.TemporaryFile() as source:
            source.write(write_musicxml([line], title=title))
            source.flush()
            piece = add_piece(teacher=self.scene.teacher, upload=source, filename="x.musicxml")
        return cut_passage(teacher=self.scene.teacher, revision=piece.current, part=1, bars="1-4")

    def task_for(self, enrolment: Enrolment, passage: Passage, **fields: object) -> Task:
        values = {
            "title": passage.revision.piece.title,
            "due_at": self.scene.assignment.due_at,
            "tempo": 160.0,
            "band_percent": 5.0,
            "count_off": 2,
            "checklist": ["notes", "rhythm", "flow", "hands"],
            **fields,
        }
        return assign(teacher=self.scene.teacher, passage=passage, enrolments=[enrolment], fields=values).tasks.get()

    def wait_until(self, page: Page, holds: Callable[[], bool]) -> None:
        for _ in range(100):
            if holds():
                return
            page.wait_for_timeout(100)
        self.fail("it did not come about")

    def looks_well(self, page: Page) -> None:
        self.accessible(page)
        self.no_sideways_scrolling(page)

    def record(self, page: Page) -> Take:
        """From the count-off to the take's own page."""
        page.get_by_role("button", name="Record at").click()
        expect(page.get_by_text("Recording.")).to_be_visible(timeout=30_000)
        # Score and recorder are in view together while one plays.
        expect(page.locator("svg.score:visible").first).to_be_in_viewport()
        expect(page.get_by_role("button", name="Stop")).to_be_in_viewport()
        # Enough of the passage that it can be told from another one.
        expect(page.locator("[data-clock]")).to_have_text(re.compile(r"0:(1[2-9]|[2-5]\d)"), timeout=60_000)
        page.get_by_role("button", name="Stop").click()
        page.get_by_role("button", name="Keep this take").click()
        page.wait_for_url("**/stand/takes/*/")
        self.hear_all()
        page.reload()
        return Take.objects.latest("pk")

    def test_a_student_s_week_on_a_telephone(self):
        self.a_student_s_week(PHONE)

    def test_a_student_s_week_on_a_desk(self):
        self.a_student_s_week(DESK)

    def a_student_s_week(self, size: dict[str, int]) -> None:
        Assignment.objects.update(stage="first_reading", minutes=10, count_off=2, tempo=160.0, to_the_end=False)
        task = self.scene.task
        page = self.page(self.scene.ylva.student, size)
        expect(page.get_by_text("10 minutes a day")).to_be_visible()
        page.get_by_role("link", name="Test tune, whole").click()
        page.get_by_role("link", name="Look first: what is in it?").click()
        page.locator("svg.score:visible g.note g.notehead").nth(4).click(force=True)
        page.get_by_role("button", name="Next").click()
        page.locator("select[name=hardest]").select_option("3")
        page.get_by_role("button", name="Next").click()
        page.locator("[data-question=counts] select").first.select_option(index=1)
        page.get_by_role("button", name="Next").click()
        page.locator("select[name=tempo]").select_option(index=2)
        self.looks_well(page)
        page.get_by_role("button", name="Done: show me").click()
        expect(page.get_by_text("bar 3", exact=False).first).to_be_visible()
        self.looks_well(page)
        self.assertIsNotNone(FoundOut.objects.get(task=task).done_at)
        page.get_by_role("link", name="Sit down and play").click()
        # What is asked for in the background is rendered as a worker would.
        self.wait_until(page, lambda: ModelSound.objects.filter(tempo_qpm=160, count_off=0).exists())
        for sound in ModelSound.objects.filter(tempo_qpm=160, count_off=0):
            render_model(model_sound_id=sound.pk)
        page.get_by_role("button", name="Play", exact=True).click()
        page.wait_for_function("() => !document.querySelector('.now').hidden", timeout=30_000)
        page.get_by_role("button", name="Stop", exact=True).click()
        self.looks_well(page)
        first = self.record(page)
        # Score and player stay in view while the list is filled in.
        page.get_by_label("Notes: to mend").scroll_into_view_if_needed()
        expect(page.get_by_role("button", name="Play", exact=True)).to_be_in_viewport()
        page.get_by_label("Notes: to mend").check()
        page.locator("input[name=easy][value=partly]").check()
        page.locator("[name=pin-bar]").first.fill("2")
        page.locator("[name=pin-text]").first.fill("slipped")
        page.get_by_label("The one thing to work on next").fill("Bar 2, slowly")
        page.get_by_role("button", name="Done: show what was heard").click()
        expect(page.get_by_role("heading", name="Your ear and what was heard")).to_be_visible()
        self.looks_well(page)
        page.goto(self.at(f"/stand/{task.pk}/play/"))
        second = self.record(page)
        page.get_by_label("The one thing to work on next").fill("The end")
        page.get_by_role("button", name="Done: show what was heard").click()
        expect(page.get_by_role("heading", name=f"What became of {str(first).lower()}’s pins")).to_be_visible()
        page.goto(self.at(f"/stand/{task.pk}/beside/"))
        self.assertEqual(page.locator(".strip.paired").count(), 2)
        self.looks_well(page)
        page.get_by_role("link", name="Without their names").click()
        page.locator("input[type=radio]").first.check()
        self.looks_well(page)
        page.get_by_role("button", name="Show which was which").click()
        expect(page.get_by_role("heading", name="A was")).to_be_visible()
        page.goto(self.at(f"/stand/takes/{second.pk}/"))
        page.get_by_role("button", name="Submit this take").click()
        expect(page.get_by_text("is with your teacher")).to_be_visible()
        review = open_review(submission=Take.objects.get(pk=second.pk).submission, teacher=self.scene.teacher)
        save_draft(review=review, draft=Draft(text="Well looked.", decision="passed", decision_tempo=None))
        send(review=review)
        page.goto(self.at("/stand/"))
        page.get_by_role("link", name="Test tune, whole").click()
        page.get_by_role("link", name="Read the answer to take 2").click()
        expect(page.get_by_text("Well looked.")).to_be_visible()
        self.looks_well(page)

    def test_somebody_who_strums_plays_along_and_records(self):
        guitar = add_student(studio=self.scene.teacher.studio, name="Paavo", instrument="guitar", level="beginner")
        chart = self.passage_of(Line(text=CHART, name="Guitar", slashes=True), "Galley Song")
        task = self.task_for(guitar, chart, step="chords", stage="steady")
        page = self.page(guitar.student, PHONE)
        page.get_by_role("link", name="Galley Song").click()
        self.looks_well(page)
        page.get_by_role("link", name="Sit down and play").click()
        self.assertGreater(page.locator("svg.score:visible .harm, svg.score:visible text").count(), 2)
        page.locator("[data-more] summary").click()
        page.locator("[data-help=melody]").uncheck()
        page.locator("[data-more] summary").click()
        page.get_by_role("button", name="Play", exact=True).click()
        page.wait_for_function("() => !document.querySelector('.now').hidden", timeout=30_000)
        page.get_by_role("button", name="Stop", exact=True).click()
        self.looks_well(page)
        self.record(page)
        expect(page.get_by_role("link", name="Back to the passage")).to_be_visible()
        self.assertEqual(Take.objects.get().task, task)

    def test_a_chart_is_crossed_and_its_changes_are_drilled(self):
        guitar = add_student(studio=self.scene.teacher.studio, name="Paavo", instrument="guitar", level="beginner")
        chart = self.passage_of(Line(text=CHART, name="Guitar", slashes=True), "Galley Song")
        asked = {"good": 1, "counts": "notes", "bars": "1-2", "stone_bars": 1}
        task = self.task_for(guitar, chart, step="chords", stage="steady", tempo=100.0, crossing=asked)
        state = state_of(task)
        drill = next(group.drills[0].drill for group in drills_of(task) if group.kind.slug == "chords")
        drilled = playing(drill.music, "guitar", drill_data(task, drill)["next"]["tempo"], manner="strum")
        plays = {s.name: [playing(music_of_stone(task, s), "guitar", 100.0, manner="strum")] for s in state.stones}
        page = self.page(guitar.student, PHONE)
        page.context.add_init_script(student_script({**plays, drill.of: [drilled]}))
        page.goto(self.at(f"/practice/{task.pk}/"))
        self.looks_well(page)
        page.get_by_role("button", name="Begin").click()
        expect(page.get_by_text("All of it carries, from")).to_be_visible(timeout=90_000)
        page.goto(self.at(f"/practice/{task.pk}/drills/chords/?of={quote(drill.of)}"))
        self.looks_well(page)
        page.get_by_role("button", name="Begin").click()
        expect(page.locator("[data-says]")).to_contain_text("1 of ", timeout=60_000)
        self.assertTrue(Attempt.objects.get(drill__kind="chords", outcome="clean").changes)

    def test_a_child_who_does_not_read_yet_and_a_helper(self):
        pip = add_student(studio=self.scene.teacher.studio, name="Pip", instrument="clarinet", level="advanced", is_minor=True)
        record_consent(student=pip.student, given_by="Eva", recorded_by=self.scene.teacher)
        Enrolment.objects.filter(pk=pip.pk).update(reads_notes=False)
        self.scene.teacher.studio.note_colours = {"E": "red", "B": "orange"}
        self.scene.teacher.studio.save()
        told = {"title": "Puffin Steps", "instructions": "Begin on the orange one.", "with_pictures": True, "listen_first": True}
        self.task_for(pip, self.scene.passage, stage="first_reading", **told)
        page = self.page(pip.student, PHONE)
        page.get_by_role("link", name="Puffin Steps").click()
        page.get_by_role("link", name="Sit down and play").click()
        self.assertGreater(page.locator("svg.score:visible g.tone-red").count(), 2)
        # Its script is there.
        expect(page.locator("[data-tempo]")).not_to_have_text("")
        with page.expect_response("**/spoken/") as said:
            page.get_by_role("button", name="Hear what to do").click()
        self.assertEqual(said.value.status, 200)
        expect(page.locator("[data-more]")).not_to_be_visible()
        self.looks_well(page)
        page.get_by_label("for the grown-up").check()
        expect(page.locator("[data-more]")).to_be_visible()
        page.get_by_label("for the grown-up").uncheck()
        self.record(page)
        page.locator(".picture-list .face").first.click()
        self.looks_well(page)
        page.get_by_role("button", name="Done").click()
        self.assertIsNotNone(SelfReview.objects.get().done_at)

    def test_a_take_is_filmed_with_what_must_be_in_the_picture_beside_it(self):
        Assignment.objects.update(must_show=["hands"], stage="at_tempo", tempo=160.0, count_off=2)
        page = self.page(self.scene.ylva.student, PHONE)
        page.goto(self.at(f"/stand/{self.scene.task.pk}/play/"))
        page.get_by_role("button", name="Film", exact=True).click()
        expect(page.get_by_text("is everything in it?")).to_be_visible()
        expect(page.locator(".filming li")).to_have_text("both hands")
        self.looks_well(page)
        page.get_by_role("button", name="Film it").click()
        expect(page.locator("[data-film-says]")).to_contain_text(re.compile(r"Filming: 0:0[4-9]"), timeout=60_000)
        page.locator("[data-film-stop]").click()
        expect(page.locator("[data-stills] canvas")).to_have_count(3, timeout=30_000)
        page.get_by_role("button", name="Keep this film").click()
        page.wait_for_url("**/stand/takes/*/", timeout=60_000)
        self.hear_all()
        take = Take.objects.get()
        self.assertTrue(take.has_picture)
        self.assertGreaterEqual(len(take.basis["targets"]["clicks_s"]), 2)
        page.goto(self.at(f"/stand/takes/{take.pk}/"))
        page.get_by_role("button", name="Play", exact=True).click()
        film = page.locator(".films video").first
        expect(film).to_be_visible()
        for _ in range(100):
            if film.evaluate("video => video.currentTime") > 0.5:
                break
            page.wait_for_timeout(100)
        apart = "video => Math.abs(video.currentTime - document.querySelector('[data-take-sound]').currentTime)"
        self.assertLess(film.evaluate(apart), 0.4)
