"""Tone beside the student's best other take: on the desk and on the student's page."""

from __future__ import annotations

import tempfile

from django.core.files.base import ContentFile
from django.test import TestCase
from django.urls import reverse

from didactor.assignments.models import Task
from didactor.core.formats.plain import to_plain
from didactor.core.instruments import BY_SLUG
from didactor.core.sound.recording import open_recording
from didactor.core.tone.measure import Balance
from didactor.library.jobs import _tone, lay_reference
from didactor.library.models import Reference
from didactor.library.notation import expectation_of_passage
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

    def chords(self, upper_db: float) -> tuple[Balance, ...]:
        return tuple(Balance(id=f"c{k}", bar=str(k), pass_=1, at_s=float(k), upper_db=upper_db) for k in range(8))

    def told(self) -> list[str]:
        return [r.says for r in tone_told(Take.objects.get(pk=self.takes[0].pk), handed_in=False) if r.code == "tone.voicing"]

    def test_chords_beside_the_teacher_s_recording_and_one_remark_alone(self):
        Analysis.objects.filter(take=self.takes[0]).update(tone=to_plain(tone(chords=self.chords(-5.0))))
        Analysis.objects.exclude(take=self.takes[0]).update(tone=None)
        self.assertEqual(self.told(), [])
        recording = {"passage": self.scene.passage, "kind": "sound", "created_by": self.scene.teacher, "file": "x.mp4", "title": "x"}
        laid = {"anchors": [[0.0, 0.0], [1.0, 1.0]], "tempo_qpm": 60.0}
        Reference.objects.create(**recording, laid=laid)
        self.assertEqual(self.told(), [], "not measured")
        Reference.objects.create(**recording, laid=laid, tone=to_plain(tone(chords=self.chords(0.0))))
        self.assertEqual(self.told(), ["The upper notes of chords sound 5 dB less against the lower ones than in the recording of Hedda."])
        Analysis.objects.filter(take=self.takes[1]).update(tone=to_plain(tone(chords=self.chords(1.0))))
        self.assertEqual(self.told(), ["The upper notes of chords sound 6 dB less against the lower ones than in take 2."])

    def test_the_teacher_s_recording_is_measured_when_it_is_laid_over_where_there_are_chords(self):
        with tempfile.TemporaryFile() as source:
            source.write(wav())
            source.flush()
            source.seek(0)
            recording = open_recording(source)
        kept = {"passage": self.scene.passage, "kind": "sound", "created_by": self.scene.teacher, "title": "x"}
        made = Reference.objects.create(**kept, file=ContentFile(wav(), "x.wav"))
        lay_reference(reference_id=made.pk)
        made.refresh_from_db()
        self.assertIsNotNone(made.laid)
        self.assertIsNone(made.tone, "a clarinet")
        found = _tone(recording, expectation_of_passage(self.scene.passage), BY_SLUG["clarinet"], 92.0)
        self.assertGreater(len(found["long"]), 1)

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
