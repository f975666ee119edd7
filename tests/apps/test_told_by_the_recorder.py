"""What a recorder tells with a take: clicks, the accompaniment, the file; and when a take counts."""

from __future__ import annotations

from django.core.files.base import ContentFile
from django.test import RequestFactory, SimpleTestCase, TestCase

from didactor.library.models import ModelSound
from didactor.library.services import cut_passage
from didactor.takes import hearing, uploads
from didactor.takes.models import TakeState
from didactor.takes.views import _extension
from tests import scene as scenes
from tests.music import tone


class ToldTests(SimpleTestCase):
    def test_clicks_are_rising_times_of_no_more_than_two_hours(self):
        self.assertEqual(uploads.read_clicks("0.5 1.1 7200"), (0.5, 1.1, 7200.0))
        for text in ("", "0.5 0.5", "1.1 0.5", "0.5 nan", "0.5 7200.1", "0.5 ²", "-1 2"):
            self.assertEqual(uploads.read_clicks(text), (), text)
        self.assertEqual(len(uploads.read_clicks(" ".join(str(k) for k in range(5000)))), uploads.MOST_CLICKS)

    def told(self, header: str) -> dict[str, str]:
        return uploads._metadata(RequestFactory().post("/", headers={"Upload-Metadata": header}))

    def test_metadata_are_pairs_of_which_the_unreadable_are_left_out(self):
        self.assertEqual(self.told("task Nw==, filename YQBi"), {"task": "7", "filename": "ab"})
        self.assertEqual(self.told("task Nw==,filename ***,step /w=="), {"task": "7"})
        self.assertEqual(self.told(""), {"": ""})

    def test_a_download_is_named_by_a_plain_ending_alone(self):
        names = {
            "a.WAV": "wav",
            "a.tar.gz": "gz",
            "take": "take",
            "a.": "bin",
            "a.héé": "bin",
            "a.sixsix": "bin",
            'a."x': "bin",
            "a.m4a": "m4a",
        }
        self.assertEqual({name: _extension(name) for name in names}, names)


class AccompanimentTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.passage = cls.scene.task.passage.root

    def sound(self, of_part: int = 1, body: bytes = b"") -> ModelSound:
        made = ModelSound.objects.create(passage=self.passage, instrument="piano", tempo_qpm=61.5 + of_part, count_off=4, of_part=of_part)
        if body:
            made.sound.save("x.wav", ContentFile(body))
        return made

    def test_only_an_accompaniment_of_the_task_s_own_passage_is_believed(self):
        own, model = self.sound(1), self.sound(0)
        revision = self.passage.revision
        elsewhere = cut_passage(teacher=self.scene.teacher, revision=revision, part=self.passage.part, bars="1-2", title="Elsewhere")
        other = ModelSound.objects.create(passage=elsewhere, instrument="piano", tempo_qpm=60.0, of_part=1)
        task = self.scene.task
        self.assertEqual(uploads._backing(task, f"{own.pk} 0.65"), {"sound": own.pk, "at_s": 0.65})
        for text in ("", f"{own.pk}", f"{own.pk} nan", f"{own.pk} 7200.1", f"{model.pk} 0.65", f"{other.pk} 0.65", "² 1", "x 1"):
            self.assertIsNone(uploads._backing(task, text), text)

    def test_the_track_is_taken_as_it_was_sent_to_the_loudspeaker_and_left_out_where_it_is_gone(self):
        played = {"sound": self.sound(1, tone(2.0)).pk, "at_s": 0.4}
        found = hearing._backing(played)
        self.assertEqual(found.at_s, 0.4)
        self.assertAlmostEqual(len(found.samples) / 32_000, 2.0, delta=0.01)
        self.assertIsNotNone(found.enters_s)
        self.assertIsNone(hearing._backing(None))
        self.assertIsNone(hearing._backing({"sound": self.sound(2).pk, "at_s": 0.4}))
        ModelSound.objects.all().delete()
        self.assertIsNone(hearing._backing(played))


class CountingTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)

    def spent(self) -> int:
        self.scene.task.refresh_from_db()
        return self.scene.task.takes_spent

    def test_a_take_counts_once_it_was_heard_however_often(self):
        take = scenes.recorded(self.scene, hear=False)
        before = self.spent()
        hearing.settle(take, TakeState.FAILED, "It could not be read." + "x" * 400)
        take.refresh_from_db()
        self.assertEqual((take.state, take.step, len(take.trouble), self.spent()), (TakeState.FAILED, "", 421, before))
        for _ in range(2):
            hearing.settle(take, TakeState.ANALYSED)
            self.assertEqual(self.spent(), before + 1)
        take.refresh_from_db()
        self.assertEqual((take.state, take.trouble), (TakeState.ANALYSED, ""))

    def test_a_take_that_is_gone_is_left_alone(self):
        take = scenes.recorded(self.scene, hear=False)
        before, gone = self.spent(), type(take).objects.get(pk=take.pk)
        take.delete()
        hearing.settle(gone, TakeState.ANALYSED)
        self.assertEqual(self.spent(), before)
