"""Tone beside the student's best other take: on the desk and on the student's page."""

from __future__ import annotations

from django.test import TestCase
from django.urls import reverse

from didactor.assignments.models import Task
from didactor.core.formats.plain import to_plain
from didactor.takes.models import Analysis, Take
from didactor.takes.services import submit_take
from didactor.takes.tone import best_other, tone_told
from tests import scene as scenes
from tests.core.test_tone import note, tone
from tests.music import wav


class ToneToldTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.takes = [scenes.recorded(cls.scene, data=wav(seed=seed)) for seed in (3, 4, 5)]

    def measured(self, number: int, slope_db: float = 0.0, findings: int = 0) -> Take:
        made = to_plain(tone(*(note(k, slope_db=slope_db) for k in range(4))))
        analysis = Analysis.objects.get(take=self.takes[number])
        summary = analysis.summary | {"findings": findings}
        Analysis.objects.filter(pk=analysis.pk).update(tone=made, summary=summary)
        return Take.objects.get(pk=self.takes[number].pk)

    def test_it_is_measured_when_a_take_is_heard(self):
        kept = Analysis.objects.get(take=self.takes[0]).tone
        self.assertLess(kept["background_db"], -30)
        self.assertGreater(len(kept["long"]), 1)

    def test_beside_the_take_with_the_fewest_remarks_the_newest_of_those(self):
        own = self.measured(0, slope_db=6.0)
        self.measured(1, findings=2)
        best = self.measured(2, findings=1)
        self.assertEqual(best_other(own, handed_in=False), best)
        self.measured(1, findings=1)
        self.assertEqual(best_other(own, handed_in=False), best)
        self.assertIn("than in take 3", tone_told(own, handed_in=False)[0].says)

    def test_what_was_not_handed_in_is_not_for_the_teacher(self):
        own = self.measured(0, slope_db=6.0)
        self.assertIsNone(best_other(own, handed_in=True))
        self.assertFalse([r for r in tone_told(own, handed_in=True) if r.code == "tone.swells"])

    def test_other_notes_are_not_compared(self):
        own = self.measured(0, slope_db=6.0)
        for number in (1, 2):
            take = self.measured(number)
            Take.objects.filter(pk=take.pk).update(basis=take.basis | {"bars": "1-4"})
        self.assertIsNone(best_other(own, handed_in=False))

    def test_without_a_measurement_nothing_is_said(self):
        Analysis.objects.update(tone=None)
        self.assertEqual(tone_told(Take.objects.get(pk=self.takes[0].pk), handed_in=False), [])

    def test_on_the_desk_with_a_remark_made_of_it_and_on_the_student_s_page(self):
        self.measured(2, findings=5)
        submit_take(take=self.measured(0))
        Task.objects.filter(pk=self.scene.task.pk).update(state="answered")
        second = self.measured(1, slope_db=6.0)
        submit_take(take=second)
        self.client.force_login(self.scene.teacher)
        page = self.client.get(reverse("review:detail", args=[second.submission.pk]))
        self.assertContains(page, "swell by 6 dB a second more than in take 1", count=2)
        self.client.force_login(self.scene.ylva.student)
        self.assertContains(self.client.get(reverse("stand:take", args=[second.pk])), "Tone, as measured")
        self.scene.assignment.students_see = "remarks"
        self.scene.assignment.save()
        self.assertNotContains(self.client.get(reverse("stand:take", args=[second.pk])), "Tone, as measured")
