"""A crossing from the first attempt to the whole: hands free with a microphone, and with a helper who counts."""

from __future__ import annotations

from datetime import timedelta

from playwright.sync_api import Page, expect

from didactor.assignments.models import Assignment
from didactor.practice.models import Attempt
from didactor.practice.music import music_of_stone
from didactor.practice.state import state_of
from tests.browser.base import DESK, PHONE, BrowserTestCase
from tests.browser.student import playing, student_script

TEMPO = 132.0


class CrossingTests(BrowserTestCase):
    def setUp(self) -> None:
        super().setUp()
        Assignment.objects.update(
            stage="at_tempo", tempo=TEMPO, count_off=2, crossing={"good": 1, "counts": "notes", "bars": "4-7"}, ladder=[]
        )
        self.scene.passage.segments = ["4", "5", "6", "7"]
        self.scene.passage.save()
        self.state = state_of(self.scene.task)

    def opened(self, size: dict[str, int], plays: dict | None = None) -> Page:
        page = self.page(self.scene.ylva.student, size)
        if plays is not None:
            page.context.add_init_script(student_script(plays))
        page.goto(self.at(f"/practice/{self.scene.task.pk}/"))
        expect(page.locator(".stone.at").first).to_be_visible()
        return page

    def played(self, stone: str, *faults: dict) -> dict:
        music = music_of_stone(self.scene.task, self.state.stone(stone))
        return playing(music, "clarinet", TEMPO, *faults)

    def test_four_stones_are_won_joined_and_played_whole_with_nothing_touched(self):
        plays = {stone.name: [self.played(stone.name)] for stone in self.state.stones}
        second = music_of_stone(self.scene.task, self.state.stone("5-5")).notes[1]
        plays["5-5"].insert(0, self.played("5-5", {"kind": "wrong", "bar": "5", "beat": second.beat, "semitones": 2}))
        page = self.opened(DESK, plays)
        self.accessible(page)
        page.get_by_role("button", name="Begin").click()
        expect(page.locator("[data-fault]")).to_contain_text("in place of", timeout=60_000)
        expect(page.locator("rect.bar.missed-here").first).to_have_attribute("data-bar", "5")
        expect(page.get_by_text("All of it carries, from")).to_be_visible(timeout=120_000)
        self.assertEqual(list(dict.fromkeys(page.evaluate("window.attempts"))), ["4-4", "5-5", "4|5", "6-6", "5|6", "7-7", "6|7", "whole"])
        self.assertGreaterEqual(page.locator(".stone.firm").count(), 5)
        self.assertEqual(page.locator(".bridge.firm").count(), 3)
        page.reload()
        expect(page.get_by_text("All of it carries, from")).to_be_visible()
        told = Attempt.objects.filter(outcome="fault").values_list("stone", flat=True)
        self.assertIn("5-5", told)

    def test_what_fails_twice_in_the_same_way_is_told_with_what_may_be_behind_it(self):
        """Bar 5 goes on where bar 6 begins to differ: the pattern carried on by itself, at once and in what was practised."""
        Assignment.objects.update(crossing={"good": 1, "counts": "notes", "bars": "5-6"})
        self.scene.passage.segments = ["5-6"]
        self.scene.passage.save()
        self.scene.assignment.refresh_from_db()
        self.state = state_of(self.scene.task)
        wrong = [{"kind": "wrong", "bar": "6", "beat": beat, "semitones": by} for beat, by in ((2.0, 2), (3.0, 7))]
        stone = self.state.stones[0].name
        page = self.opened(PHONE, {stone: [self.played(stone, *wrong) for _ in range(3)]})
        page.get_by_role("button", name="Begin").click()
        expect(page.locator("[data-why]")).to_contain_text("goes on by itself", timeout=90_000)
        expect(page.locator("[data-why]")).to_be_visible(timeout=30_000)
        expect(page.locator("[data-fault]")).to_contain_text("in place of")
        expect(page.locator("[data-why]")).to_be_hidden(timeout=30_000)
        expect(page.locator("[data-why]")).to_be_visible(timeout=90_000)
        page.get_by_role("button", name="Rest").click()
        page.reload()
        expect(page.get_by_text("Why it fails there")).to_be_visible()
        self.no_sideways_scrolling(page)
        self.accessible(page)

    def test_a_helper_counts_without_a_microphone_and_takes_a_slip_back(self):
        page = self.opened(PHONE)
        self.no_sideways_scrolling(page)
        page.locator(".thumb-more summary").click()
        page.get_by_label("a helper listens").check()
        page.locator(".thumb-more summary").click()
        page.get_by_role("button", name="Not yet").click()
        expect(page.locator("[data-fault]")).to_have_text("Not yet.")
        page.get_by_role("button", name="Take back").click()
        expect(page.locator("[data-fault]")).to_have_text("Taken back.")
        self.assertEqual(Attempt.objects.count(), 0)
        for count in range(1, 9):
            expect(page.locator("[data-says]")).not_to_have_text("")
            before = page.locator("[data-says]").inner_text()
            page.get_by_role("button", name="Without a fault").click()
            expect(page.locator("[data-says]")).not_to_have_text(before)
            self.assertEqual(Attempt.objects.filter(outcome="clean").count(), count)
        expect(page.get_by_text("All of it carries, from")).to_be_visible()
        self.accessible(page)

    def test_a_clapped_crossing_is_heard_by_its_strokes(self):
        Assignment.objects.update(step="clap", crossing={"good": 1, "counts": "rhythm", "bars": "4-5"})
        self.scene.assignment.refresh_from_db()
        self.state = state_of(self.scene.task)

        def clapped(stone: str, *faults: dict) -> dict:
            music = music_of_stone(self.scene.task, self.state.stone(stone))
            return playing(music, "claps", TEMPO, *faults, manner="clap")

        plays = {stone.name: [clapped(stone.name)] for stone in self.state.stones}
        second = music_of_stone(self.scene.task, self.state.stone("5-5")).notes[1]
        plays["5-5"].insert(0, clapped("5-5", {"kind": "missed", "bar": "5", "beat": second.beat}))
        page = self.opened(PHONE, plays)
        page.get_by_role("button", name="Begin").click()
        expect(page.locator("[data-fault]")).to_contain_text("bar 5", ignore_case=True, timeout=40_000)
        expect(page.get_by_text("All of it carries, from")).to_be_visible(timeout=90_000)
        self.assertEqual(list(dict.fromkeys(page.evaluate("window.attempts"))), ["4-4", "5-5", "4|5", "whole"])

    def test_a_trial_run_counts_nothing_and_silence_waits(self):
        page = self.opened(PHONE, {"4-4": [self.played("4-4")]})
        page.keyboard.press("t")
        expect(page.locator("[data-fault]")).to_contain_text("A trial run, without a fault.", timeout=30_000)
        page.get_by_role("button", name="Rest").click()
        self.assertFalse(state_of(self.scene.task).crossing.standings["4-4"].firm)

    def test_the_household_agrees_on_minutes_and_days(self):
        page = self.opened(DESK)
        page.locator("summary", has_text="minutes a day").click()
        page.get_by_label("Minutes a day").fill("9")
        page.get_by_label("not on Sunday").check()
        page.get_by_role("button", name="Agreed").click()
        expect(page.locator("summary", has_text="9 minutes a day, 1 day off")).to_be_visible()
        expect(page.get_by_role("heading", name="Today")).to_be_visible()

    def test_a_week_s_plan_follows_what_was_won(self):
        """Day after day the household opens the page: what was won comes back when it is due, and the next stone is there."""
        page = self.opened(DESK)
        page.locator(".thumb-more summary").click()
        page.get_by_label("a helper listens").check()
        page.locator(".thumb-more summary").click()
        portions = page.locator(".today").filter(has=page.get_by_role("heading", name="Today")).locator("li")
        expect(portions.first).to_contain_text("Bar 4")
        won = []
        for day in range(4):
            before = page.locator("[data-says]").inner_text()
            won.append(before.split(",")[0].split(":")[0])
            page.get_by_role("button", name="Without a fault").click()
            expect(page.locator("[data-says]")).not_to_have_text(before)
            for attempt in Attempt.objects.all():
                attempt.made_at -= timedelta(days=1)
                attempt.save(update_fields=["made_at"])
            page.reload()
            if day == 0:
                expect(portions.filter(has_text="once more, so that it stays")).to_have_count(1)
                expect(portions.filter(has_text="Bar 5")).to_have_count(1)
        self.assertEqual(len(set(won)), 4, won)
        minutes = page.get_by_role("heading", name="Today").inner_text()
        self.assertRegex(minutes, r"Today, \d+ minutes?")
        expect(page.locator(".today").filter(has=page.get_by_role("heading", name="Practised")).locator("li").first).to_contain_text(
            "1 attempt"
        )
