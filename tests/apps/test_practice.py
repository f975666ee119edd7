"""Practising in stones through its pages: attempts in pieces, the count, the helper, remedies, the plan, what is kept and for how long."""

from __future__ import annotations

import json
import uuid
from datetime import timedelta
from pathlib import Path
from unittest import mock

import numpy as np
from django.conf import settings
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Assignment, Task, TaskState
from didactor.assignments.services import assign
from didactor.core.errors import PassageError
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.verdict import Verdict
from didactor.practice import jobs, live
from didactor.practice.hearing import discard_old_sounds, forget_left_overnight, propose, settle
from didactor.practice.models import Attempt, Habit, Remedy
from didactor.practice.music import music_of_stone
from didactor.practice.plan import planned_towards, today_of
from didactor.practice.services import add_piece, erase_practice
from didactor.practice.state import minutes_played, state_of
from tests import scene as scenes
from tests.core.test_attempts import take

RATE = 32_000
QUARTERS = 92.0


class PracticeScene(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(stage="at_tempo", tempo=QUARTERS, crossing={"good": 2, "counts": "notes"})
        self.client.force_login(self.scene.ylva.student)
        self.task = self.scene.task

    def url(self, name: str, *arguments: object) -> str:
        return reverse(f"practice:{name}", args=arguments or [self.task.pk])

    def now(self) -> dict:
        return self.client.get(self.url("state")).json()["crossing"]

    def stone(self, name: str) -> dict:
        return next(s for s in self.now()["stones"] if s["name"] == name)

    def begin(self, stone: str = "5-6", **fields: object):
        number = fields.pop("id", uuid.uuid4())
        sent = {"id": number, "stone": stone, "tempo": QUARTERS, "rate": RATE, "start": 2.0, **fields}
        return number, self.client.post(self.url("begin"), sent)

    def give(self, number: uuid.UUID, samples: np.ndarray, at: int = 0, last: bool = False):
        body = (np.clip(samples, -1, 1) * 32767).astype("<i2").tobytes()
        url = f"{self.url('piece', number)}?at={at}" + ("&last=1" if last else "")
        return self.client.post(url, body, content_type="application/octet-stream")

    def play(self, *faults: dict, stone: str = "5-6", **fields: object) -> dict:
        """An attempt as a browser sends it: whole seconds until the answer says that it is over."""
        samples, start_s = take(tuple(tuple(sorted(f.items())) for f in faults))
        number, answer = self.begin(stone, start=f"{start_s:.3f}", **fields)
        self.assertEqual(answer.status_code, 200)
        samples = np.concatenate([samples, np.zeros(6 * RATE, np.float32)])
        for at in range(0, len(samples), RATE // 2):
            told = self.give(number, samples[at : at + RATE // 2], at * 2).json()
            if told["state"] == "over":
                return told
        raise AssertionError("never over")

    def by_hand(self, outcome: str, stone: str = "0-2", count: int = 1, **fields: object) -> None:
        for _ in range(count):
            sent = {"id": uuid.uuid4(), "stone": stone, "tempo": QUARTERS, "outcome": outcome, **fields}
            self.assertEqual(self.client.post(self.url("by_hand"), sent).status_code, 200)


class AttemptTests(PracticeScene):
    def test_an_attempt_is_heard_while_it_is_played_and_counts(self):
        told = self.play()
        self.assertEqual((told["attempt"]["outcome"], self.stone("5-6")["tally"]), ("clean", 1))
        self.assertEqual(Task.objects.get(pk=self.task.pk).state, TaskState.IN_WORK)
        told = self.play({"kind": "wrong", "bar": "6", "beat": 0.0, "semitones": 2})
        self.assertEqual((told["attempt"]["outcome"], told["attempt"]["bar"]), ("fault", "6"))
        self.assertEqual(self.stone("5-6")["tally"], 0)
        attempt = Attempt.objects.get(outcome="fault")
        jobs.keep_sound(attempt_id=str(attempt.pk))
        attempt.refresh_from_db()
        self.assertFalse(attempt.samples_path.exists())
        self.assertEqual(self.client.get(self.url("sound", attempt.pk)).status_code, 200)

    def test_why_it_went_wrong_is_told_at_once_and_what_keeps_failing_in_the_log(self):
        again = ({"kind": "wrong", "bar": "6", "beat": 2.0, "semitones": 2}, {"kind": "wrong", "bar": "6", "beat": 3.0, "semitones": 7})
        said = "the figure of the bar before"
        self.assertIn(said, self.play(*again)["attempt"]["cause"])
        self.assertNotContains(self.client.get(self.url("crossing")), "Why it fails there")
        attempt = Attempt.objects.get()
        attempt.pk = uuid.uuid4()
        attempt.save()
        for person in (self.scene.ylva.student, self.scene.teacher):
            self.client.force_login(person)
            self.assertContains(self.client.get(self.url("crossing")), "Why it fails there")

    def test_a_trial_run_is_told_and_does_not_count(self):
        told = self.play(trial="1")
        self.assertEqual((told["attempt"]["outcome"], told["attempt"]["was"]), ("trial", "clean"))
        self.assertEqual(self.stone("5-6")["tally"], 0)

    def test_pieces_sent_twice_half_or_too_early(self):
        samples, _ = take()
        number, _ = self.begin()
        piece = samples[:RATE]
        self.give(number, piece)
        self.give(number, piece)
        self.assertEqual(Attempt.objects.get().samples_path.stat().st_size, 2 * RATE)
        self.give(number, samples[RATE // 2 : 2 * RATE], RATE)
        self.assertEqual(Attempt.objects.get().samples_path.stat().st_size, 4 * RATE)
        gap = self.give(number, piece, 12 * RATE)
        self.assertEqual((gap.status_code, gap.json()["size"]), (409, 4 * RATE))
        for at in ("", "-2", "x", "1e3"):
            self.assertEqual(self.client.post(f"{self.url('piece', number)}?at={at}", b"ab", content_type="application/x").status_code, 400)
        self.assertEqual(self.client.post(f"{self.url('piece', number)}?at=0", b"abc", content_type="application/x").status_code, 400)

    def test_the_same_attempt_begun_twice_is_one_and_another_s_is_refused(self):
        number, _ = self.begin()
        self.assertEqual(self.begin(id=number)[1].status_code, 200)
        self.assertEqual(Attempt.objects.count(), 1)
        Attempt.objects.update(task=self.scene.other_task)
        self.assertEqual(self.begin(id=number)[1].status_code, 422)
        self.assertEqual(self.give(number, np.zeros(100)).status_code, 404)

    def test_what_makes_no_sense_is_refused_with_words(self):
        for fields in (
            {"tempo": "nan"},
            {"tempo": "0"},
            {"rate": "²"},
            {"start": "-1"},
            {"start": "1000"},
            {"ago": "inf"},
            {"remedy": "x"},
            {"id": "7"},
        ):
            with self.subTest(**fields):
                self.assertEqual(self.begin(**fields)[1].status_code, 400)
        for fields in ({"rate": "100"}, {"rate": "999999"}, {"stone": "9-10"}, {"stone": ""}, {"remedy": "77"}):
            with self.subTest(**fields):
                answer = self.begin(**fields)[1]
                self.assertEqual(answer.status_code, 422)
                self.assertTrue(answer.json()["says"])
        self.assertEqual(Attempt.objects.count(), 0)

    def test_no_attempt_is_longer_than_three_minutes(self):
        number, _ = self.begin(rate=8000)
        attempt = Attempt.objects.get()
        path = attempt.samples_path
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(bytes(2 * 8000 * 190))
        self.assertEqual(self.give(number, np.zeros(10), 2 * 8000 * 190).status_code, 422)

    def test_where_nobody_listens_it_is_kept_and_counts_later(self):
        samples, start_s = take()
        number, _ = self.begin(start=f"{start_s:.3f}", ago="3600")
        with mock.patch("didactor.practice.views.ask", return_value=live.Standing(live.AWAY)):
            self.assertEqual(self.give(number, samples[: 3 * RATE]).json()["state"], "away")
            told = self.give(number, samples[3 * RATE :], 6 * RATE, last=True).json()
        self.assertEqual((told["attempt"]["outcome"], self.stone("5-6")["unheard"], self.stone("5-6")["tally"]), ("unheard", 1, 0))
        jobs.hear_attempt(attempt_id=str(number))
        jobs.hear_attempt(attempt_id=str(number))
        self.assertEqual((self.stone("5-6")["unheard"], self.stone("5-6")["tally"]), (0, 1))
        attempt = Attempt.objects.get()
        self.assertTrue(attempt.sound and not attempt.samples_path.exists())
        self.assertLess(attempt.made_at, timezone.now() - timedelta(minutes=50))

    def test_a_stone_that_was_cut_away_meanwhile_takes_nothing_back(self):
        number, _ = self.begin()
        self.scene.passage.segments = ["0-4", "5-8"]
        self.scene.passage.save()
        told = self.give(number, take()[0], last=True).json()
        self.assertEqual(told["attempt"]["outcome"], "unsure")
        self.assertIn("cut anew", told["attempt"]["says"])

    def test_who_may_not(self):
        self.task.withdrawn_at = timezone.now()
        self.task.save()
        self.assertEqual(self.begin()[1].status_code, 422)
        self.client.force_login(self.scene.ossian.student)
        other = self.client.post(
            reverse("practice:begin", args=[self.scene.other_task.pk]), {"id": uuid.uuid4(), "stone": "5-6", "tempo": 92, "rate": RATE}
        )
        self.assertIn("consent", other.json()["says"])
        self.assertEqual(self.client.post(self.url("begin"), {}).status_code, 404)

    def test_the_socket_that_nobody_answers_is_away(self):
        with self.settings(LISTEN_HERE=False):
            self.assertEqual(live.ask(uuid.uuid4(), b"", rate_hz=32000, heard_s=1.0).state, live.AWAY)

    def test_the_disk_is_full(self):
        number, _ = self.begin()
        attempt = Attempt.objects.get()
        attempt.samples_path.parent.mkdir(parents=True, exist_ok=True)
        attempt.samples_path.mkdir()
        self.assertEqual(self.give(number, np.zeros(100)).status_code, 507)


class CrossingTests(PracticeScene):
    def test_the_way_from_the_first_stone_to_the_whole_by_a_helper(self):
        seen = []
        for _ in range(40):
            now = self.now()
            if now["carries"]:
                break
            seen.append(now["at"])
            self.by_hand("clean", now["at"])
        self.assertEqual(list(dict.fromkeys(seen)), ["0-2", "3-4", "2|3", "5-6", "4|5", "7-8", "6|7", "whole"])
        self.assertEqual(seen.count("whole"), 1)
        self.assertIsNone(now["next"])
        self.assertIn("All of it carries", now["says"])
        self.assertContains(self.client.get(self.url("crossing")), "Nothing is due today")

    def test_the_helper_takes_a_slip_back_and_no_recorded_attempt(self):
        number = uuid.uuid4()
        self.client.post(self.url("by_hand"), {"id": number, "stone": "0-2", "tempo": 92, "outcome": "clean"})
        self.client.post(self.url("take_back"), {"id": number, "tempo": 92})
        self.assertEqual(Attempt.objects.count(), 0)
        heard = self.begin()[0]
        self.client.post(self.url("take_back"), {"id": heard, "tempo": 92})
        self.assertEqual(Attempt.objects.count(), 1)
        for outcome in ("unsure", "trial", "", "x"):
            sent = {"id": uuid.uuid4(), "stone": "0-2", "tempo": 92, "outcome": outcome}
            self.assertEqual(self.client.post(self.url("by_hand"), sent).status_code, 400)

    def test_three_failures_lead_slower_and_two_clean_ones_up_again(self):
        self.by_hand("fault", count=3)
        slower = self.now()["tempo"]
        self.assertLess(slower, QUARTERS)
        self.by_hand("clean", count=2, tempo=slower)
        self.assertEqual(self.now()["tempo"], QUARTERS)
        self.assertEqual(self.now()["clean"]["1"], slower)

    def test_what_the_teacher_set_holds(self):
        Assignment.objects.update(crossing={"good": 1, "order": "in_order", "bars": "3-6", "tempo": 60.0})
        now = self.now()
        self.assertEqual([s["name"] for s in now["stones"]], ["3-4", "5-6", "4|5", "whole"])
        self.assertEqual((now["tempo"], now["stones"][0]["need"]), (60, 1))
        self.scene.passage.segments = ["0-4", "5-8"]
        self.scene.passage.save()
        Assignment.objects.update(crossing={})
        self.assertEqual([s["name"] for s in self.now()["stones"]], ["0-4", "5-8", "4|5", "whole"])

    def test_what_is_read_at_sight_or_set_without_it_has_none(self):
        for fields in ({"crossing": {"on": "no"}}, {"stage": "sight_reading"}, {"step": "listen"}):
            with self.subTest(**fields):
                kept = {name: getattr(self.scene.assignment, name) for name in fields}
                Assignment.objects.update(**fields)
                self.assertRedirects(
                    self.client.get(self.url("crossing")), reverse("task", args=[self.task.pk]), fetch_redirect_response=False
                )
                self.assertEqual(self.client.get(self.url("state")).status_code, 404)
                self.assertNotContains(self.client.get(reverse("task", args=[self.task.pk])), "Practise it")
                Assignment.objects.update(**kept)
        self.assertContains(self.client.get(reverse("task", args=[self.task.pk])), "Practise it")


class BarsOfACrossingTests(PracticeScene):
    def test_bars_that_are_not_in_the_passage_are_refused_when_it_is_given_out(self):
        fields = {"title": "x", "due_at": timezone.now() + timedelta(days=1), "tempo": 80.0, "band_percent": 5.0}
        for bars in ("9-12", "6-3", "x"):
            with self.subTest(bars=bars), self.assertRaises(PassageError):
                assign(
                    teacher=self.scene.teacher,
                    passage=self.scene.passage,
                    enrolments=[self.scene.ylva],
                    fields={**fields, "crossing": {"bars": bars}},
                )
        made = assign(
            teacher=self.scene.teacher,
            passage=self.scene.passage,
            enrolments=[self.scene.ylva],
            fields={**fields, "crossing": {"bars": "3-6"}},
        )
        self.assertEqual(state_of(made.tasks.get()).stones[0].bars, "3-4")


class RemedyTests(PracticeScene):
    def fail(self, count: int, tempo: float = QUARTERS, note: int = 4, heard: int | None = None) -> None:
        for _ in range(count):
            Attempt.objects.create(
                task=self.task,
                stone="5-6",
                bars="5-6",
                tempo=tempo,
                outcome="fault",
                ended=True,
                bar="6",
                at_fault=[[self.ids[note], heard]],
                rate=RATE,
            )

    @property
    def ids(self) -> list[str]:
        state = state_of(self.task)
        return [n.id for n in music_of_stone(self.task, state.stone("5-6")).notes]

    def test_what_fails_at_every_tempo_is_given_a_component_to_train_and_goes_back(self):
        self.fail(3)
        self.fail(3, tempo=60)
        made = propose(self.task, "5-6")
        self.assertEqual((made.kind, made.exercise["means"]), ("every_tempo", "two_notes"))
        self.assertIsNone(propose(self.task, "5-6"), "one at a time")
        self.assertEqual(self.now()["remedy"]["taken"], False)
        self.client.post(self.url("remedy"), {"remedy": made.pk, "answer": "take"})
        now = self.now()
        self.assertEqual((now["next"]["remedy"], now["next"]["tempo"]), (made.pk, made.exercise["tempo"]))
        for _ in range(2):
            self.by_hand("clean", "5-6", remedy=made.pk, tempo=made.exercise["tempo"])
        made.refresh_from_db()
        self.assertIsNotNone(made.done_at)
        self.assertIsNone(self.now()["next"]["remedy"])
        self.assertEqual(self.stone("5-6")["tally"], 0, "its attempts count for itself alone")
        self.fail(3)
        self.fail(3, tempo=60)
        self.assertEqual(propose(self.task, "5-6").exercise["means"], "clap")

    def test_three_slow_ones_tell_what_it_is(self):
        self.fail(3)
        first = propose(self.task, "5-6")
        self.assertTrue(first.finds_out)
        for count in range(3):
            self.assertEqual(self.now()["remedy"]["tally"], count)
            attempt = Attempt.objects.create(
                task=self.task, stone="5-6", bars="5-6", tempo=first.exercise["tempo"], remedy=first, rate=RATE, ended=True
            )
            settle(attempt, Verdict(outcome=Outcome.FAULT, bar="6", at_fault=(self.ids[4],), heard=(None,)), 3.0)
        first.refresh_from_db()
        self.assertIsNotNone(first.done_at)
        self.assertEqual(state_of(self.task).remedy.kind, "every_tempo")

    def test_one_that_is_put_aside_is_not_proposed_again_by_the_same_attempts(self):
        self.fail(4)
        made = propose(self.task, "5-6")
        self.assertEqual(made.exercise["means"], "find_out")
        self.client.post(self.url("remedy"), {"remedy": made.pk, "answer": "aside"})
        self.assertIsNone(self.now()["remedy"])
        self.assertIsNone(propose(self.task, "5-6"))

    def test_only_what_is_silent_is_ticked_off(self):
        self.fail(3)
        made = propose(self.task, "5-6")
        self.client.post(self.url("remedy"), {"remedy": made.pk, "answer": "done"})
        self.assertIsNone(Remedy.objects.get().done_at)
        Remedy.objects.update(exercise={**made.exercise, "silent": True})
        self.client.post(self.url("remedy"), {"remedy": made.pk, "answer": "done"})
        self.assertIsNotNone(Remedy.objects.get().done_at)
        for odd in ({"remedy": "²", "answer": "take"}, {"remedy": "9999", "answer": "take"}, {"answer": "take"}):
            self.assertEqual(self.client.post(self.url("remedy"), odd).status_code, 200)


class PlanTests(PracticeScene):
    def today(self):
        return today_of(state_of(Task.objects.get(pk=self.task.pk)))

    def test_stones_in_the_task_s_order_within_the_household_s_minutes(self):
        Habit.objects.create(enrolment=self.scene.ylva, minutes=5)
        today = self.today()
        self.assertLessEqual(today.day.minutes, 5)
        self.assertEqual(today.portions[0].stone.name, "0-2")
        self.assertTrue(all(p.stone.kind == "own" for p in today.portions), "joins wait for their sides")
        Assignment.objects.update(minutes=3)
        self.assertLessEqual(self.today().day.minutes, 3)

    def test_a_day_off_and_the_rehearsal_on_the_day_before(self):
        habit = Habit.objects.create(enrolment=self.scene.ylva, minutes=5, days_off=[timezone.localdate().weekday()])
        self.assertTrue(self.today().day.free)
        self.assertContains(self.client.get(self.url("crossing")), "A day off.")
        habit.delete()
        Assignment.objects.update(stage="final", due_at=timezone.now() + timedelta(days=1))
        self.assertTrue(self.today().day.rehearsal)

    def test_a_group_s_performance_is_planned_towards_like_a_due_date(self):
        group, today = self.scene.ylva.group, timezone.localdate()
        due = timezone.localdate(self.task.due_at)  # not the day in UTC: near midnight they differ

        def towards(day):
            group.performs_on = day
            group.save()
            return planned_towards(state_of(Task.objects.get(pk=self.task.pk)), today)

        self.assertEqual(towards(None), (due, False))
        self.assertEqual(towards(today + timedelta(days=1)), (today + timedelta(days=1), True))
        self.assertTrue(self.today().day.rehearsal)
        self.assertContains(self.client.get(self.url("crossing")), f"{group} performs on")
        self.assertEqual(towards(due + timedelta(days=9)), (due, False), "the date that comes first")
        self.assertEqual(towards(today - timedelta(days=1)), (due, False), "what is over is over")
        Assignment.objects.update(due_at=timezone.now() - timedelta(days=2))
        self.assertEqual(towards(today + timedelta(days=9))[0], today + timedelta(days=9))

    def test_a_firm_stone_comes_back_after_a_day(self):
        self.by_hand("clean", "0-2", count=2)
        Attempt.objects.update(made_at=timezone.now() - timedelta(days=1))
        [back] = [p for p in self.today().portions if p.why == "return"]
        self.assertEqual((back.stone.name, back.minutes), ("0-2", 1))

    def test_the_log_of_minutes_keeps_itself(self):
        now = timezone.now()
        made = [Attempt(made_at=now + timedelta(seconds=s), seconds=10) for s in (0, 30, 60, 3600)]
        self.assertEqual(minutes_played(made), round((10 + 30 + 30 + 10 + 50) / 60))
        self.assertEqual(minutes_played([]), 0)

    def test_a_forecast_is_silent_before_it_can_know(self):
        self.by_hand("clean", "0-2")
        self.assertIsNone(self.today().forecast)


class KeptTests(PracticeScene):
    def test_sounds_go_after_three_weeks_and_what_was_won_stays(self):
        self.play()
        attempt = Attempt.objects.get()
        jobs.keep_sound(attempt_id=str(attempt.pk))
        attempt.refresh_from_db()
        path = Path(settings.MEDIA_ROOT) / attempt.sound.name
        self.assertEqual(discard_old_sounds(), 0)
        Attempt.objects.update(made_at=timezone.now() - timedelta(days=22))
        self.assertEqual(discard_old_sounds(), 1)
        self.assertFalse(path.exists())
        self.assertEqual(self.stone("5-6")["tally"], 1)

    def test_attempts_that_were_left_in_the_middle_do_not_pile_up(self):
        numbers = []
        for _ in range(6):
            number, _ = self.begin()
            self.give(number, np.zeros(100))
            numbers.append(number)
        left = set(Attempt.objects.filter(ended=False).values_list("pk", flat=True))
        self.assertEqual(left, set(numbers[2:]))
        self.assertEqual(len(list(Path(settings.UPLOAD_ROOT).glob("*.pcm"))), 4)
        self.play()
        Attempt.objects.update(made_at=timezone.now() - timedelta(days=2))
        self.assertEqual(forget_left_overnight(), 3)
        self.assertEqual(Attempt.objects.count(), 1, "one that was ended stays")

    def test_erased_for_good(self):
        self.play()
        number, _ = self.begin()
        add_piece(Attempt.objects.get(pk=number), 0, b"ab" * 50)
        attempt = Attempt.objects.filter(outcome="clean").get()
        jobs.keep_sound(attempt_id=str(attempt.pk))
        attempt.refresh_from_db()
        path = Path(settings.MEDIA_ROOT) / attempt.sound.name
        samples = Attempt.objects.get(pk=number).samples_path
        self.assertTrue(path.exists() and samples.exists())
        with self.captureOnCommitCallbacks(execute=True):
            erase_practice(self.task)
        self.assertFalse(path.exists() or Attempt.objects.exists() or samples.exists())

    def test_the_page_tells_the_browser_what_it_needs(self):
        page = self.client.get(self.url("crossing")).content.decode()
        data = json.loads(page.split('id="practice-data" type="application/json">', 1)[1].split("</script>", 1)[0])
        self.assertEqual(data["now"]["next"]["stone"], "0-2")
        self.assertEqual([stretch[1] for stretch in data["now"]["next"]["road"]], [0, 1, 5])
        self.assertEqual(data["now"]["next"]["pickup"], 1)
        self.client.force_login(self.scene.guardian)
        other = reverse("practice:crossing", args=[self.scene.other_task.pk])
        self.assertNotContains(self.client.get(other), "data-go")
