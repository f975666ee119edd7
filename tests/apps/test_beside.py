"""What can be heard beside a take at the same place."""

from __future__ import annotations

from django.core.files.base import ContentFile
from django.test import TestCase
from django.urls import reverse

from didactor.library.models import ModelSound, Passage, Reference
from didactor.library.notation import expectation_of_passage
from didactor.takes.beside import anchors_of, beside
from didactor.takes.models import Analysis, Submission, Take
from tests import scene as scenes
from tests.music import tone


class BesideTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.passage = Passage.objects.get(pk=cls.scene.task.passage_id)
        cls.bars = [bar.number for bar in expectation_of_passage(cls.passage).bars]

    def take(self, slow: float = 1.0, handed_in: bool = True) -> Take:
        take = scenes.recorded(self.scene, hear=False, data=tone(1.0 + 0.01 * Take.objects.count()))
        moments = [[bar, 1, 0.0, 1.0 + slow * 2.0 * k] for k, bar in enumerate(self.bars)]
        Analysis.objects.create(take=take, engine_version="x", parameters={}, result={}, summary={}, moments=moments, seconds=1.0)
        Take.objects.filter(pk=take.pk).update(state="analysed", playback="x.mp4", playback_delay_s=0.5)
        if handed_in:
            Submission.objects.create(take=take)
        return Take.objects.get(pk=take.pk)

    def titles(self, take: Take) -> list[str]:
        return [one["title"] for one in beside(take, self.passage)]

    def test_the_take_before_that_was_handed_in_at_the_same_places(self):
        first = self.take(slow=1.5)
        kept = self.take(handed_in=False)
        now = self.take()
        [before] = beside(now, self.passage)
        self.assertEqual((before["title"], before["sound"]), ("Take 1", reverse("takes:sound", args=[first.pk])))
        self.assertEqual(before["places"][:3], [[1.0, 1.5], [3.0, 4.5], [5.0, 7.5]])
        self.assertNotIn(str(kept), self.titles(now), "what a student kept to themselves stays theirs")
        self.assertEqual(self.titles(first), [], "a later one is not the take before")

    def test_the_desk_fetches_it_with_the_teacher_s_phrases(self):
        first, now = self.take(), self.take()
        self.client.force_login(self.scene.teacher, backend="didactor.people.backends.PasswordBackend")
        page = self.client.get(reverse("review:alongside", args=[now.submission.pk]))
        self.assertContains(page, '<option value="0">Take 1</option>')
        self.assertContains(page, reverse("takes:sound", args=[first.pk]))
        self.assertContains(page, '<datalist id="phrases">')
        self.assertNotContains(self.client.get(reverse("review:alongside", args=[first.submission.pk])), "<select")

    def test_the_teacher_s_recording_and_the_model_nearest_to_the_tempo(self):
        take = self.take()
        laid = {"tempo_qpm": 60.0, "anchors": [[0.0, 2.0], [1.0, 3.0], [5.0, 8.0]]}
        fields = {"passage": self.scene.passage, "kind": "sound", "created_by": self.scene.teacher}
        Reference.objects.create(title="As I play it", file=ContentFile(b"x", "x.mp4"), laid=laid, **fields)
        Reference.objects.create(title="Something else", file=ContentFile(b"x", "x.mp4"), does_not_fit="It does not fit.", **fields)
        ModelSound.objects.all().delete()
        for tempo, body in ((60.0, b"x"), (90.0, b"x"), (92.0, None)):
            sound = ContentFile(body, "x.mp4") if body else ""
            ModelSound.objects.create(passage=self.passage, instrument="clarinet", tempo_qpm=tempo, sound=sound)
        own, model = beside(take, self.passage)
        self.assertEqual((own["title"], own["places"]), ("As I play it", [[1.0, 2.0], [3.0, 3.0], [5.0, 8.0]]))
        self.assertEqual(model["title"], "The model")
        seconds = [at for _, at in model["places"][:3]]
        self.assertEqual(seconds, [0.3, 0.967, 3.633], "an anacrusis of a quarter, then bars of four at 90")

    def test_a_take_that_went_back_keeps_only_what_goes_forward(self):
        take = self.take()
        analysis = take.latest_analysis
        analysis.moments[2][3] = 0.5
        analysis.save()
        music = expectation_of_passage(self.passage)
        self.assertEqual([at for _, at in anchors_of(take, music)][:3], [1.0, 3.0, 7.0])
        analysis.moments = analysis.moments[:1]
        analysis.save()
        self.assertEqual(self.titles(take), [], "one place is no way to lay one beside another")
