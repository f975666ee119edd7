"""Playing along with the teacher's own recording, and with the names of the notes said."""

from __future__ import annotations

import json
from pathlib import Path
from unittest import mock

import numpy as np
import soxr
from django.conf import settings
from django.core.files.uploadedfile import TemporaryUploadedFile
from django.test import TestCase
from django.urls import reverse

from didactor.assignments.services import open_sealed
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.recording import RATE_HZ
from didactor.demo.film import film_of
from didactor.library.desk import add_reference
from didactor.library.jobs import lay_reference, render_model, stretch_reference
from didactor.library.models import ModelSound, Reference, ReferenceSound
from didactor.library.notation import names_in_time
from didactor.takes.models import Take
from didactor.takes.services import delete_take
from tests import scene as scenes
from tests.core.test_laid_over import OTHER
from tests.music import played, wav


class PlayingAlongTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(stage="steady", ladder=[60.0, 76.0, 92.0])
        self.client.force_login(self.scene.ylva.student)

    def recorded(self, body: bytes | None = None) -> Reference:
        body = body or wav(tempo=80.0)
        upload = TemporaryUploadedFile("mine.wav", "audio/wav", len(body), None)
        upload.write(body)
        upload.flush()
        made = add_reference(passage=self.scene.passage, teacher=self.scene.teacher, upload=upload, title="As I play it")
        lay_reference(reference_id=made.pk)
        made.refresh_from_db()
        return made

    def data(self) -> dict:
        page = self.client.get(reverse("stand:play", args=[self.scene.task.pk])).content.decode()
        return json.loads(page.split('id="playing-data" type="application/json">', 1)[1].split("</script>", 1)[0])

    def sound(self, **post: object):
        return self.client.post(reverse("stand:sounds", args=[self.scene.task.pk]), post)

    def test_the_teachers_recording_comes_at_the_students_tempo_with_its_own_time(self):
        reference = self.recorded()
        self.assertAlmostEqual(reference.laid["tempo_qpm"], 80.0, delta=1.0)
        self.assertEqual([r["title"] for r in self.data()["references"]], ["As I play it"])
        self.assertEqual(self.sound(tempo=60, reference=reference.pk).json(), {"waiting": True})
        stretch_reference(reference_sound_id=ReferenceSound.objects.get().pk)
        found = self.sound(tempo=60, reference=reference.pk).json()
        self.assertEqual(found["leadS"], 0.0)
        (first_q, first_s), *_, (last_q, last_s) = found["anchors"]
        self.assertAlmostEqual((last_s - first_s) / (last_q - first_q), 1.0, delta=0.02)
        self.assertEqual(self.client.get(found["url"]).status_code, 200)
        self.assertEqual(ReferenceSound.objects.count(), 1)

    def test_a_recording_of_something_else_says_so_and_plays_plain(self):
        reference = self.recorded(wav(text=OTHER))
        self.assertIsNone(reference.laid)
        self.assertIn("does not follow the written notes", reference.does_not_fit)
        self.assertEqual(self.data()["references"], [])
        self.assertEqual(self.sound(tempo=60, reference=reference.pk).json(), {"failed": True})
        self.client.force_login(self.scene.teacher)
        self.assertContains(self.client.get(reverse("library:passage", args=[self.scene.passage.pk])), "does not follow the written notes")

    def test_nothing_of_another_passage_and_nothing_before_reading_at_sight(self):
        reference = self.recorded()
        for wrong in (reference.pk + 99, "²", "-1", ""):
            self.assertEqual(self.sound(tempo=60, reference=wrong).json(), {"failed": True}, wrong)
        self.scene.assignment.stage, self.scene.assignment.preparation_s = "sight_reading", 30
        self.scene.assignment.save()
        open_sealed(self.scene.task)
        for what in ({"reference": reference.pk}, {"names": 1}, {}):
            self.assertEqual(self.sound(tempo=60, accompaniment=1, **what).json(), {"failed": True}, what)
        self.assertEqual(self.data()["references"], [])

    def test_a_broken_off_stretch_is_said_and_a_second_run_changes_nothing(self):
        reference = self.recorded()
        self.sound(tempo=60, reference=reference.pk)
        made = ReferenceSound.objects.get()
        stretch_reference(reference_sound_id=made.pk)
        name = ReferenceSound.objects.get().sound.name
        stretch_reference(reference_sound_id=made.pk)
        with mock.patch("didactor.library.jobs.lay_over", side_effect=AssertionError("it is laid already")):
            lay_reference(reference_id=reference.pk)
            lay_reference(reference_id=reference.pk + 1)
        self.assertEqual(ReferenceSound.objects.get().sound.name, name)
        ReferenceSound.objects.update(sound="", failed=True)
        self.assertEqual(self.sound(tempo=60, reference=reference.pk).json(), {"failed": True})

    def test_the_names_of_the_notes_are_said_where_they_are_played(self):
        self.assertTrue(self.data()["names"])
        self.assertEqual(self.sound(tempo=60, names=1).json(), {"waiting": True})
        spoken = ModelSound.objects.get(naming="letters")
        render_model(model_sound_id=spoken.pk)
        self.assertEqual(self.sound(tempo=60, names=1).json()["leadS"], 0.3)
        named = names_in_time(spoken.passage, "letters")
        # Written pitch, for a clarinet in B flat: the key has four sharps more than two.
        self.assertEqual([name for _, name in named][:3], ["B", "E", "F♯"])
        self.assertEqual([at for at, _ in named], sorted({at for at, _ in named}))
        # The ones who hear models are not offered it among them.
        self.client.force_login(self.scene.teacher)
        page = self.client.get(reverse("library:passage_models_fragment", args=[self.scene.passage.pk]))
        self.assertNotIn(spoken, page.context["models"])

    def test_a_studios_own_names_are_the_ones_that_are_said(self):
        studio = self.scene.teacher.studio
        studio.note_names = {"B": "Bee", "E": "Owl"}
        studio.save()
        self.sound(tempo=60, names=1)
        passage = ModelSound.objects.get(naming="own").passage
        self.assertEqual([name for _, name in names_in_time(passage, "own")][:3], ["Bee", "Owl", "F♯"])


class FilmsBesideTests(scenes.OwnFolders, TestCase):
    """The student's film and the teacher's, shown at the same bar while the take sounds."""

    def setUp(self):
        self.scene = scenes.build(stage="steady")

    def film(self, tempo: float) -> bytes:
        return film_of(soxr.resample(np.asarray(played(tempo=tempo).samples), RATE_HZ, SYNTH_RATE_HZ), [0.0, 1.0])

    def films(self, take: Take) -> list[dict]:
        self.client.force_login(self.scene.ylva.student)
        page = self.client.get(reverse("stand:take", args=[take.pk])).content.decode()
        return json.loads(page.split('id="player-data" type="application/json">', 1)[1].split("</script>", 1)[0])["films"]

    def test_both_are_shown_at_the_same_bar_and_go_with_the_take(self):
        upload = TemporaryUploadedFile("mine.webm", "video/webm", 0, None)
        upload.write(self.film(80.0))
        upload.flush()
        reference = add_reference(passage=self.scene.passage, teacher=self.scene.teacher, upload=upload, title="My hands")
        lay_reference(reference_id=reference.pk)
        take = scenes.recorded(self.scene, data=self.film(96.0))
        self.assertTrue(take.has_picture)
        own, theirs = self.films(take)
        self.assertEqual(self.client.get(own["url"]).headers["Content-Type"], "video/webm")
        self.assertEqual(own["places"][1][0] - own["places"][0][0], own["places"][1][1] - own["places"][0][1])
        (first, at), *_, (last, then) = theirs["places"]
        self.assertAlmostEqual((then - at) / (last - first), 96 / 80, delta=0.03)
        picture = Path(settings.MEDIA_ROOT) / take.picture.name
        self.assertTrue(picture.exists())
        with self.captureOnCommitCallbacks(execute=True):
            delete_take(student=self.scene.ylva.student, take=take)
        self.assertFalse(picture.exists())

    def test_a_take_of_sound_alone_has_no_film_beside_it(self):
        take = scenes.recorded(self.scene)
        self.assertEqual(self.films(take), [])
        self.assertEqual(self.client.get(reverse("takes:picture", args=[take.pk])).status_code, 404)
