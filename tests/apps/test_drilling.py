"""Drills through their pages: what is offered, goes that are heard, names that are touched, the warm-up, and what is refused."""

from __future__ import annotations

import uuid
from dataclasses import replace
from urllib.parse import quote

import numpy as np
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.core.errors import PassageError
from didactor.core.instruments import BY_SLUG
from didactor.core.practising.change import Change
from didactor.core.practising.crossing import Outcome
from didactor.core.practising.drills.drill import Drill as Drilled
from didactor.core.practising.verdict import Verdict
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate
from didactor.practice.drilling import asked_of_drill, drill_data, drills_of, material_of, row_of, warm_up_of
from didactor.practice.hearing import settle
from didactor.practice.models import Attempt, Drill, Remedy
from didactor.practice.services import erase_practice
from didactor.practice.state import state_of, summaries
from tests import scene as scenes


class DrillScene(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(stage="at_tempo", tempo=92.0, crossing={"good": 2, "counts": "notes"})
        self.client.force_login(self.scene.ylva.student)
        self.task = self.scene.task

    def url(self, name: str, *arguments: object) -> str:
        return reverse(f"practice:{name}", args=arguments or [self.task.pk])

    def first(self, kind: str) -> Drilled:
        return next(group.drills[0].drill for group in drills_of(self.task) if group.kind.slug == kind)

    def begin(self, drill: Drilled, **fields: object):
        number = uuid.uuid4()
        sent = {"id": number, "kind": drill.kind, "of": drill.of, "tempo": 64, "rate": SYNTH_RATE_HZ, "start": 1.0, **fields}
        return number, self.client.post(self.url("begin"), sent)

    def go(self, drill: Drilled, *changes: Change, outcome: Outcome = Outcome.CLEAN, tempo: float = 64.0) -> Attempt:
        made = Attempt.objects.create(task=self.task, drill=row_of(self.task, drill), tempo=tempo)
        return settle(made, Verdict(outcome=outcome, changes=changes), 5.0)


class PageTests(DrillScene):
    def test_the_page_offers_what_fits_and_leads_from_the_task(self):
        self.assertContains(self.client.get(reverse("task", args=[self.task.pk])), self.url("drills"))
        page = self.client.get(self.url("drills"))
        for title in ("Two notes", "The rhythm on one note", "Find it", "Names touched in time", "Names said in time"):
            self.assertContains(page, title)
        self.assertNotContains(page, "Chord changes")
        drill = self.first("two_notes")
        self.assertContains(page, quote(drill.of))
        self.assertContains(self.client.get(f"{self.url('drill', self.task.pk, 'two_notes')}?of={quote(drill.of)}"), drill.title)

    def test_a_teacher_sees_what_came_of_it_and_plays_nothing(self):
        self.go(self.first("two_notes"))
        self.client.force_login(self.scene.teacher)
        page = self.client.get(self.url("drills"))
        self.assertContains(page, "1 go")
        self.assertNotContains(page, "?of=")

    def test_what_is_not_offered_leads_back(self):
        for kind, of in (("two_notes", "nothing"), ("two_notes", ""), ("nonsense", "x")):
            answer = self.client.get(f"{self.url('drill', self.task.pk, kind)}?of={of}", follow=True)
            self.assertContains(answer, "there no more")

    def test_what_is_sealed_shows_nothing(self):
        self.task.assignment.stage = "sight_reading"
        self.task.assignment.preparation_s = 30
        self.task.assignment.save()
        self.assertTrue(self.task.is_sealed)
        self.assertIsNone(material_of(self.task))
        self.assertContains(self.client.get(self.url("drills")), "nothing to drill")
        _, answer = self.begin(Drilled(kind="two_notes", of="a b", title="", music=None))
        self.assertEqual(answer.status_code, 422)


class GoTests(DrillScene):
    def play(self, drill: Drilled, *faults: dict):
        made = simulate(drill.music, BY_SLUG["flute"], 64.0, faults=list(faults), room="bedroom", seed=3, count_off=2)
        number, answer = self.begin(drill, start=f"{made.truth['clicks_s'][-1] + 60 / 64.0:.3f}")
        self.assertEqual(answer.status_code, 200, answer.content)
        samples = np.concatenate([made.samples, np.zeros(2 * SYNTH_RATE_HZ, dtype=np.float32)])
        body = (np.clip(samples, -1, 1) * 32767).astype("<i2").tobytes()
        return self.client.post(f"{self.url('piece', number)}?at=0&last=1", body, content_type="application/octet-stream").json()

    def test_a_go_is_heard_and_its_changes_are_kept(self):
        drill = self.first("two_notes")
        told = self.play(drill)
        self.assertEqual(told["attempt"]["outcome"], "clean", told)
        self.assertNotIn("crossing", told)
        self.assertEqual((told["drill"]["goes"], told["drill"]["good"]), (1, 1))
        kept = Attempt.objects.get()
        self.assertEqual((kept.drill.kind, kept.drill.of, len(kept.changes)), ("two_notes", drill.of, 7))
        self.assertIn("changes a minute", kept.says)

    def test_a_wrong_one_is_told(self):
        told = self.play(self.first("two_notes"), {"kind": "wrong", "note": 3, "semitones": -2})
        self.assertEqual((told["attempt"]["outcome"], told["attempt"]["code"]), ("fault", "change.wrong"))
        self.assertIsNotNone(told["attempt"]["place"])

    def test_drills_neither_win_stones_nor_bring_remedies(self):
        before = state_of(self.task)
        for _ in range(6):
            self.go(self.first("two_notes"), outcome=Outcome.FAULT)
        after = state_of(self.task)
        self.assertEqual(after.crossing.firm, before.crossing.firm)
        self.assertEqual(len(after.attempts), 0)
        self.assertFalse(Remedy.objects.exists())

    def test_their_minutes_are_in_the_log(self):
        for _ in range(3):
            self.go(self.first("two_notes"))
        self.assertEqual(len(state_of(self.task).practised), 3)
        self.assertContains(self.client.get(self.url("crossing")), "3 attempts")
        self.assertIn(self.task.pk, summaries([self.task]))

    def test_a_drill_needs_no_crossing(self):
        self.task.assignment.crossing = {"on": "no"}
        self.task.assignment.save()
        self.assertIsNone(state_of(self.task))
        _, answer = self.begin(self.first("two_notes"))
        self.assertEqual(answer.status_code, 200)
        _, answer = self.begin(replace(self.first("two_notes"), kind="", of=""))
        self.assertEqual(answer.status_code, 422)

    def test_refusals(self):
        drill = self.first("two_notes")
        _, answer = self.begin(replace(drill, of="gone"))
        self.assertEqual(answer.status_code, 422)
        self.assertIn("there no more", answer.json()["says"])
        _, answer = self.begin(drill, rate=10)
        self.assertEqual(answer.status_code, 422)
        self.task.withdrawn_at = timezone.now()
        self.task.save()
        _, answer = self.begin(drill)
        self.assertIn("taken this passage back", answer.json()["says"])
        self.assertEqual(Attempt.objects.count(), 0)

    def test_a_child_needs_consent(self):
        self.task = self.scene.other_task
        self.client.force_login(self.scene.ossian.student)
        _, answer = self.begin(self.first("two_notes"))
        self.assertEqual(answer.status_code, 422)
        self.assertIn("consent", answer.json()["says"])

    def test_a_drill_that_is_gone_cannot_be_heard(self):
        attempt = self.go(self.first("two_notes"))
        Drill.objects.update(of="gone")
        with self.assertRaises(PassageError):
            asked_of_drill(Attempt.objects.get(pk=attempt.pk))

    def test_one_drill_has_one_row_and_goes_with_the_practice(self):
        drill = self.first("two_notes")
        self.assertEqual(row_of(self.task, drill), row_of(self.task, drill))
        self.go(drill)
        erase_practice(self.task)
        self.assertFalse(Drill.objects.exists() or Attempt.objects.exists())

    def test_the_tempo_climbs_after_two_good_ones(self):
        drill = self.first("two_notes")
        begun = drill_data(self.task, drill)["next"]["tempo"]
        for _ in range(2):
            self.go(drill, tempo=begun)
        self.assertGreater(drill_data(self.task, drill)["next"]["tempo"], begun)
        for _ in range(4):
            self.go(drill, outcome=Outcome.FAULT)
        self.assertLess(drill_data(self.task, drill)["next"]["tempo"], begun)


class FindTests(DrillScene):
    def test_what_was_asked_for_is_what_is_heard_for(self):
        drill = self.first("find")
        asked = drill_data(self.task, drill)["next"]["prompt"]
        self.assertEqual(asked["name"], drill.prompts[0].name)
        number, _ = self.begin(drill, prompt=drill.prompts[1].name)
        self.assertEqual(asked_of_drill(Attempt.objects.get(pk=number)).prompt, drill.prompts[1])

    def test_the_next_one_is_another(self):
        drill = self.first("find")
        name = drill.prompts[0].name
        self.go(drill, Change(before="", after=name, late_s=None, right=False), outcome=Outcome.FAULT)
        self.assertNotEqual(drill_data(self.task, drill)["next"]["prompt"]["name"], name)


class TouchedTests(DrillScene):
    def touch(self, drill: Drilled, touches: list[tuple[object, str]], **fields: object):
        sent = {
            "id": uuid.uuid4(),
            "kind": drill.kind,
            "of": drill.of,
            "tempo": 60,
            "at": [at for at, _ in touches],
            "name": [n for _, n in touches],
        }
        return self.client.post(self.url("touched"), {**sent, **fields})

    def test_names_in_time(self):
        drill = self.first("touch_names")
        told = self.touch(drill, [(float(k), name) for k, name in enumerate(drill.touched)]).json()
        self.assertEqual((told["attempt"]["outcome"], told["drill"]["good"]), ("clean", 1))
        told = self.touch(drill, [(float(k), "Q") for k, _ in enumerate(drill.touched)]).json()
        self.assertEqual(told["attempt"]["outcome"], "fault")
        self.assertIn("Q was touched", told["attempt"]["says"])

    def test_the_same_go_twice_is_one(self):
        drill, number = self.first("touch_names"), uuid.uuid4()
        right = [(float(k), name) for k, name in enumerate(drill.touched)]
        self.touch(drill, right, id=number)
        again = self.touch(drill, [], id=number).json()
        self.assertEqual(again["attempt"]["outcome"], "clean")
        self.assertEqual(Attempt.objects.count(), 1)

    def test_what_makes_no_sense(self):
        drill = self.first("touch_names")
        for touches in ([("nan", "A")], [("²", "A")], [(1e9, "A")], [(1.0, "A")] * 65):
            self.assertEqual(self.touch(drill, touches).status_code, 400, touches[:1])
        self.assertEqual(self.touch(drill, [(1.0, "A")], name=["A", "B"]).status_code, 400)
        self.assertEqual(self.touch(drill, [(1.0, "A")], id="x").status_code, 400)
        self.assertEqual(self.touch(replace(drill, of="gone"), [(1.0, "A")]).status_code, 422)
        self.assertEqual(self.touch(self.first("two_notes"), [(1.0, "A")]).status_code, 422)
        self.assertEqual(self.touch(replace(drill, kind=""), [(1.0, "A")]).status_code, 422)
        self.assertEqual(Attempt.objects.count(), 0)


class WarmUpTests(DrillScene):
    def slow(self, late_s: float) -> list[Change]:
        return [Change(before="A", after="D", late_s=late_s, right=True)] * 3

    def test_the_slowest_changes_come_first_and_one_leads_to_the_next(self):
        group = next(g for g in drills_of(self.task) if g.kind.slug == "two_notes")
        quick, slow, slower = (row.drill for row in group.drills[:3])
        self.go(quick, *self.slow(0.0))
        self.go(slow, *self.slow(0.2))
        self.go(slower, *self.slow(0.6))
        warm = warm_up_of(self.scene.ylva)
        self.assertEqual([w.drill.of for w in warm], [slower.of, slow.of])
        page = self.client.get(self.url("warm_up", self.scene.ylva.pk))
        self.assertContains(page, slower.title)
        first = self.client.get(f"{warm[0].address}&warm")
        self.assertContains(first, f"Next: {slow.title}")
        self.assertContains(self.client.get(f"{warm[1].address}&warm"), "Warm: to the stand")
        self.assertNotContains(self.client.get(warm[0].address), "Next:")
        table = next(g for g in drills_of(self.task) if g.kind.slug == "two_notes")
        self.assertEqual(table.drills[0].drill.of, slower.of)

    def test_without_any_yet_it_is_the_hardest_of_each_piece(self):
        [only] = warm_up_of(self.scene.ylva)
        self.assertEqual((only.task.pk, only.drill.kind), (self.task.pk, "two_notes"))

    def test_nothing_on_the_stand_is_said(self):
        self.task.withdrawn_at = timezone.now()
        self.task.save()
        self.assertContains(self.client.get(self.url("warm_up", self.scene.ylva.pk)), "Nothing is on the stand")
