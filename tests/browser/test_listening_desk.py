"""The listening desk: everything in view at 1280 by 800, a clean take in three keys, a proposal taken over."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from didactor.assignments.models import Assignment, Task
from didactor.people.models import SignedIn
from didactor.review.models import Mark, Review
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Submission, Take
from didactor.takes.services import submit_take
from tests import scene as scenes
from tests.browser.base import DESK, PHONE, BrowserTestCase
from tests.music import wav


class ListeningDeskTests(BrowserTestCase):
    def opened(self, *faults: dict, size: dict[str, int] = DESK) -> Page:
        Assignment.objects.update(listen_first=False)
        take = scenes.recorded(self.scene, *faults)
        submit_take(take=Take.objects.get(pk=take.pk))
        page = self.page(self.scene.teacher, size)
        page.goto(self.at(f"/desk/{take.submission.pk}/"))
        expect(page.get_by_role("button", name="Play", exact=True)).to_be_visible()
        return page

    def wrong(self, *beats: float) -> list[dict]:
        return [{"kind": "wrong", "bar": "6", "beat": beat, "semitones": 2} for beat in beats]

    def test_score_player_marks_checklist_and_decision_are_in_view_at_once(self):
        page = self.opened(*self.wrong(0.0, 2.0))
        self.accessible(page)
        self.no_sideways_scrolling(page)
        height = page.viewport_size["height"]
        for part in (
            "svg.score:visible",
            "[data-player]",
            "#marks .marks li",
            "#checklist [role=group] >> nth=-1",
            ".choices-row",
            "#answer-text",
        ):
            box = page.locator(part).first.bounding_box()
            self.assertGreaterEqual(box["y"], 0, part)
            self.assertLess(box["y"] + (0 if "svg" in part else box["height"]), height + 1, part)
        foot = page.locator(".desk-foot").bounding_box()
        last = page.locator("#checklist [role=group] >> nth=-1").bounding_box()
        self.assertLessEqual(last["y"] + last["height"], foot["y"] + 1)

    def test_a_clean_take_in_three_keys(self):
        page = self.opened()
        page.keyboard.press("Space")
        page.keyboard.press("a")
        expect(page.get_by_label("Passed")).to_be_checked()
        page.keyboard.press("s")
        expect(page.get_by_text("Sent: it is with Ylva.")).to_be_visible()
        self.assertEqual(Review.objects.get().decision, "passed")

    def test_a_proposal_is_taken_over_changed_kept_as_a_draft_and_sent(self):
        page = self.opened(*self.wrong(0.0, 1.0, 2.0))
        expect(page.get_by_text("All faults lie in bar 6")).to_be_visible()
        page.keyboard.press("k")
        expect(page.locator("#marks li.kept")).to_have_count(1)
        page.keyboard.press("a")
        expect(page.get_by_label("bars", exact=True)).to_have_value("6")
        page.get_by_label("bars", exact=True).fill("5-6")
        page.get_by_role("heading", name="Ylva", exact=True).click()
        page.keyboard.press("c")
        expect(page.get_by_label("Notes: to mend")).to_be_checked()
        expect(page.get_by_label("Tempo: good")).to_be_checked()
        expect(page.get_by_label("Tone: good")).not_to_be_checked()
        expect(page.locator("#answer-version")).not_to_have_value("0")
        page.reload()
        expect(page.get_by_label("bars", exact=True)).to_have_value("5-6")
        expect(page.get_by_label("Notes: to mend")).to_be_checked()
        page.locator("body").press("s")
        expect(page.get_by_text("Sent: it is with Ylva.")).to_be_visible()
        [way] = Assignment.objects.filter(leads_to=self.scene.task)
        self.assertEqual(way.tasks.get().passage.bars, "5-6")
        student = self.page(self.scene.ylva.student, PHONE)
        student.goto(self.at("/"))
        expect(student.get_by_role("link", name="Test tune, whole, bars 5–6")).to_be_visible()

    def test_a_phrase_comes_back_with_the_bar_that_is_pinned(self):
        page = self.opened(*self.wrong(0.0))
        page.get_by_label("Bar", exact=True).fill("5")
        page.get_by_label("Remark", exact=True).fill("Breathe before bar 5, then go on.")
        page.get_by_label("About").select_option("flow")
        page.get_by_role("button", name="Add", exact=True).click()
        expect(page.locator("#marks")).to_contain_text("Breathe before bar 5")
        page.reload()
        expect(page.locator("#phrases option")).to_have_count(1)
        page.get_by_label("Bar", exact=True).fill("7")
        page.get_by_label("Remark", exact=True).fill("Breathe before bar {bar}, then go on.")
        expect(page.get_by_label("Remark", exact=True)).to_have_value("Breathe before bar 7, then go on.")
        expect(page.get_by_label("About")).to_have_value("flow")

    def test_keys_are_told(self):
        page = self.opened()
        page.keyboard.press("?")
        expect(page.get_by_text("take over what is proposed")).to_be_visible()

    def test_the_last_decision_is_taken_back_and_another_key_is_chosen_for_it(self):
        page = self.opened(*self.wrong(0.0, 2.0))
        kept = page.locator("#marks li.kept")
        page.keyboard.press("k")
        expect(kept).to_have_count(1)
        page.keyboard.press("u")
        expect(kept).to_have_count(0)
        page.keyboard.press("?")
        page.get_by_role("button", name="Key for: keep the first open mark").click()
        page.keyboard.press("j")
        expect(page.get_by_role("button", name="Key for: keep the first open mark")).to_have_text("J")
        page.get_by_role("heading", name="Ylva", exact=True).click()
        page.keyboard.press("k")
        page.keyboard.press("j")
        expect(kept).to_have_count(1)
        page.reload()
        page.keyboard.press("j")
        expect(kept).to_have_count(2)

    def test_a_remark_is_pinned_to_what_sounds(self):
        page = self.opened(*self.wrong(0.0))
        page.evaluate("document.querySelector('[data-take-sound]').play()")
        page.wait_for_function("() => document.querySelector('[data-take-sound]').currentTime > 2.5")
        page.keyboard.press("r")
        expect(page.get_by_label("Bar", exact=True)).not_to_have_value("")
        expect(page.get_by_label("Remark", exact=True)).to_be_focused()

    def test_a_remark_is_said_on_the_spot_heard_and_added(self):
        page = self.opened(*self.wrong(0.0))
        page.get_by_label("Bar", exact=True).fill("6")
        page.get_by_role("button", name="Say it").click()
        expect(page.locator("[data-say-words]")).to_have_text("0:01", timeout=20_000)
        page.get_by_role("button", name="That is it").click()
        expect(page.get_by_label("What you said", exact=True)).to_be_visible()
        page.get_by_role("button", name="Add", exact=True).click()
        expect(page.get_by_label("What you said to it")).to_have_count(1)
        mark = Mark.objects.get(origin="teacher")
        self.assertEqual((mark.text, mark.bar), ("A remark, said.", "6"))
        # What was recorded may be thrown away before it is added.
        page.get_by_role("button", name="Say it").click()
        expect(page.locator("[data-say-words]")).to_have_text("0:01", timeout=20_000)
        page.get_by_role("button", name="That is it").click()
        page.get_by_role("button", name="Not this").click()
        expect(page.get_by_role("button", name="Say it")).to_be_visible()

    def test_the_next_take_lies_ready_plays_at_once_and_so_does_the_one_after(self):
        Assignment.objects.update(listen_first=False)
        for number, name in enumerate(("Tove", "Una", "Vidar")):
            take = scenes.recorded_by(scenes.another(self.scene, name), wav(seed=21 + number))
            analyse_take(take_id=take.pk)
            submit_take(take=Take.objects.get(pk=take.pk))
        page = self.opened()
        first = page.url
        others: list[str] = []
        up = page.frame_locator("iframe.take-page.up")
        takes = [page.main_frame, up, up, up]
        for number, take in enumerate(takes):
            if number < 3:
                under = page.frame_locator("iframe.take-page:not(.up)")
                expect(under.locator("#answer")).to_be_attached(timeout=20_000)
                others.append(under.get_by_role("heading", level=1, include_hidden=True).inner_text())
            page.keyboard.press("a")
            expect(take.get_by_label("Passed")).to_be_checked()
            page.keyboard.press("s")
            if number < 3:
                expect(up.get_by_role("heading", level=1)).to_have_text(others[-1])
                expect(up.get_by_role("button", name="Pause", exact=True)).to_be_visible()
                expect(up.locator("[data-said]")).to_contain_text("Sent: it is with")
                self.accessible(page)
        expect(page.get_by_text("Sent: it is with")).to_be_visible()
        self.assertEqual(set(Review.objects.values_list("decision", flat=True)), {"passed"})
        self.assertEqual((Review.objects.count(), len(set(others))), (4, 3))
        # Reloaded, or gone back to: what the address says is there.
        page.goto(first)
        expect(page.get_by_text("Amend this answer")).to_be_visible()

    def test_without_a_connection_an_answer_stays_where_it_is(self):
        page = self.opened()
        page.keyboard.press("a")
        expect(page.get_by_label("Passed")).to_be_checked()
        page.get_by_label("To Ylva").fill("Breathe before bar 5.")
        expect(page.locator("#answer-version")).not_to_have_value("0")
        page.route("**/send/", lambda route: route.abort())
        page.get_by_role("button", name="Send").click()
        expect(page.get_by_text("No connection: it is not sent.")).to_be_visible()
        self.troubles.clear()
        self.assertIsNone(Review.objects.get().sent_at)
        page.unroute("**/send/")
        page.get_by_role("button", name="Send").click()
        expect(page.get_by_text("Sent: it is with Ylva.")).to_be_visible()
        self.assertEqual(Review.objects.get().text, "Breathe before bar 5.")

    def test_what_is_refused_says_why_with_what_was_written(self):
        page = self.opened()
        page.get_by_label("To Ylva").fill("Well played.")
        page.get_by_role("button", name="Send").click()
        expect(page.get_by_role("alert")).to_contain_text("Choose what happens next")
        expect(page.get_by_label("To Ylva")).to_have_value("Well played.")
        self.troubles.clear()

    def test_one_that_came_in_between_plays_by_itself_too(self):
        other = scenes.recorded_by(self.scene.task, wav(seed=21))
        Task.objects.filter(pk=self.scene.task.pk).update(state="open")
        analyse_take(take_id=other.pk)
        Submission.objects.create(take=other)
        page = self.opened()
        page.keyboard.press("a")
        expect(page.get_by_label("Passed")).to_be_checked()
        Task.objects.filter(pk=self.scene.task.pk).update(state="handed_in")
        page.keyboard.press("s")
        page.wait_for_url("**/desk/*/?heard")
        page.wait_for_function("() => document.querySelector('[data-take-sound]').currentTime > 0.2")
        expect(page.get_by_role("button", name="Pause", exact=True)).to_be_visible()

    def test_heard_live_a_touch_is_a_mark_and_what_is_decided_is_found_by_the_student(self):
        page = self.page(self.scene.teacher)
        page.goto(self.at(f"/students/{self.scene.ylva.student_id}/passages/"))
        page.get_by_role("button", name="hear it live").click()
        page.wait_for_load_state("load")
        page.locator(".live").get_by_text("Rhythm and pulse").click()
        page.locator("svg.score:visible rect.bar").nth(5).click(force=True)
        expect(page.locator("#marks li.kept")).to_have_count(1)
        expect(page.locator("#marks")).to_contain_text("Rhythm and pulse.")
        page.get_by_text("Once more", exact=True).click()
        page.get_by_role("button", name="Send", exact=True).click()
        page.wait_for_url("**/desk/")
        student = self.page(self.scene.ylva.student, PHONE)
        student.goto(self.at("/stand/"))
        expect(student.get_by_text("Once more")).to_be_visible()

    def test_on_a_phone_nothing_is_cut_off(self):
        page = self.opened(*self.wrong(0.0), size=PHONE)
        self.no_sideways_scrolling(page)
        self.accessible(page)

    def test_what_is_not_done_is_said_and_what_was_written_stays(self):
        page = self.opened(*self.wrong(0.0, 2.0))
        words = "Bar 6 again, slowly: listen to the third note."
        said = page.locator("[data-not-done]")
        keep = page.locator("#marks").get_by_role("button", name="Keep", exact=True).first

        # Nobody answers.
        page.context.set_offline(True)
        keep.click()
        expect(said).to_have_text("There is no connection: this was not done. Do it again when there is one.")
        page.context.set_offline(False)
        keep.click()
        expect(said).to_be_hidden()
        expect(page.locator("#marks li.kept")).to_have_count(1)

        # Signed out elsewhere: neither a mark nor the answer is taken, and the page is not replaced by the sign-in.
        SignedIn.objects.all().delete()
        page.get_by_label("To Ylva").fill(words)
        expect(said).to_contain_text("You are signed out: this was not done.")
        page.get_by_role("button", name="Send").click()
        expect(page.locator("#draft-state")).to_contain_text("You are signed out")
        expect(page.get_by_label("To Ylva")).to_have_value(words)
        self.assertFalse(Review.objects.filter(sent_at__isnull=False).exists())
        # The browser, and htmx, note it in the console.
        known = [told for told in self.troubles if any(word in told for word in ("htmx:", "ERR_INTERNET_DISCONNECTED", "401"))]
        self.assertTrue(known)
        self.assertEqual(known, self.troubles)
        self.troubles.clear()
