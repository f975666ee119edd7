"""Sitting down to play: the page, its sounds, and the tempo that the student chooses."""

from __future__ import annotations

import base64
import json
from unittest import mock

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments.models import Task
from didactor.assignments.services import open_sealed
from didactor.library.jobs import render_model
from didactor.library.models import ModelSound
from didactor.takes.models import Take, TakeState
from didactor.takes.services import review_own_take, submit_take
from tests import scene as scenes
from tests.music import wav


class PlayingTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build(stage="steady", ladder=[60.0, 76.0, 92.0])
        self.client.force_login(self.scene.ylva.student)

    def data(self, name: str = "playing-data") -> dict:
        page = self.client.get(reverse("stand:play", args=[self.scene.task.pk]))
        text = page.content.decode()
        return json.loads(text.split(f'id="{name}" type="application/json">', 1)[1].split("</script>", 1)[0])

    def sound(self, **post: object):
        return self.client.post(reverse("stand:sounds", args=[self.scene.task.pk]), post)

    def send(self, tempo: str, **told: str) -> Take:
        body = wav(seed=len(tempo))
        facts = {"task": str(self.scene.task.pk), "filename": "take.wav", "tempo": tempo, **told}
        metadata = ",".join(f"{key} {base64.b64encode(value.encode()).decode()}" for key, value in facts.items())
        made = self.client.post(
            reverse("takes:uploads"), headers={"Upload-Length": str(len(body)), "Upload-Metadata": metadata, "Tus-Resumable": "1.0.0"}
        )
        answer = self.client.patch(
            made["Location"], body, content_type="application/offset+octet-stream", headers={"Upload-Offset": "0", "Tus-Resumable": "1.0.0"}
        )
        result = json.loads(answer["Upload-Result"])
        take = Take.objects.get(pk=result["take"])
        self.assertEqual(result["sha256"], take.sha256)
        return take

    def test_the_page_knows_when_every_note_and_bar_is_due(self):
        data = self.data()
        self.assertEqual([bar[0] for bar in data["bars"]], [str(n) for n in range(9)])
        self.assertEqual(data["bars"][1][2], data["pickup"])
        first = data["notes"][0]
        self.assertEqual(first[1], 0.0)
        self.assertEqual([q for _, q in data["notes"]], sorted(q for _, q in data["notes"]))
        self.assertEqual((data["tempo"], data["asked"], data["free"]), (60, 92, True))

    def test_a_song_is_drawn_where_its_words_have_room(self):
        draw = {"handheld": "<svg>plain</svg>", "stand": "<svg>large</svg>", "phone": "<svg>wider</svg>"}
        for words, shown in (("", "<svg>plain</svg>"), ('<g data-class="syl">', "<svg>wider</svg>")):
            made = {**draw, "handheld": draw["handheld"] + words}
            with mock.patch(
                "didactor.assignments.sheets.plain_drawings", lambda passage, layouts, made=made: {name: made[name] for name in layouts}
            ):
                page = self.client.get(reverse("stand:play", args=[self.scene.task.pk]))
            self.assertEqual(page.context["drawings"]["handheld"], shown)
            self.assertEqual(page.context["drawings"]["stand"], draw["stand"])

    def test_a_sound_is_asked_for_until_it_is_there_and_made_once(self):
        before = ModelSound.objects.count()
        self.assertEqual(self.sound(tempo=76).json(), {"waiting": True})
        self.assertEqual(self.sound(tempo=76).json(), {"waiting": True})
        self.assertEqual(ModelSound.objects.count(), before + 1)
        # Where one begins, and where it is to lead, is made when the work is given out.
        own = ModelSound.objects.filter(passage=self.scene.task.passage)
        self.assertEqual(set(own.exclude(tempo_qpm=76).values_list("tempo_qpm", flat=True)), {60.0, 92.0})
        sound = own.get(tempo_qpm=60, count_off=0)
        render_model(model_sound_id=sound.pk)
        found = self.sound(tempo=60).json()
        self.assertEqual((found["sound"], found["leadS"], found["tempo"]), (sound.pk, 0.3, 60))
        self.assertEqual(self.client.get(found["url"]).status_code, 200)
        ModelSound.objects.filter(pk=sound.pk).update(sound="", failed=True)
        self.assertEqual(self.sound(tempo=60).json(), {"failed": True})

    def test_only_tempi_of_the_passage_are_rendered(self):
        for tempo in ("61", "5", "1000", "-60", "²", "", "nan"):
            self.assertEqual(self.sound(tempo=tempo).status_code, 400, tempo)
        self.assertFalse(ModelSound.objects.exclude(tempo_qpm__in=(60, 92)).exists())
        self.assertEqual(self.sound(tempo=60, accompaniment=1).json(), {"failed": True})

    def test_what_is_read_at_sight_is_neither_heard_nor_seen_before_its_clock(self):
        self.scene.assignment.preparation_s = 60
        self.scene.assignment.save()
        task = self.scene.task
        self.assertRedirects(self.client.get(reverse("stand:play", args=[task.pk])), reverse("task", args=[task.pk]))
        self.assertEqual(self.sound(tempo=60).status_code, 400)
        open_sealed(task)
        self.assertFalse(self.data()["model"])
        self.assertEqual(self.sound(tempo=60).status_code, 400)

    def test_the_chosen_tempo_is_kept_with_the_take_and_judged_by(self):
        take = self.send("60")
        self.assertEqual((take.own_tempo, take.tempo_asked), (60, "quarter = 60, own choice"))
        self.assertEqual((take.targets.tempo_qpm, take.targets.tempo_to_qpm), (60, 92))

    def test_no_tempo_and_tempi_that_nobody_plays_leave_what_was_asked(self):
        for tempo in ("", "7", "900", "nan", "²"):
            take = self.send(tempo)
            self.assertEqual((take.own_tempo, take.targets.tempo_qpm), (None, 92), tempo)
            take.delete()

    def test_how_late_the_device_records_is_kept_where_a_device_can_be_so_late(self):
        for late, kept in (("0.12", 0.12), ("0", 0.0), ("0.6", 0.6), ("0.7", None), ("-0.1", None), ("nan", None), ("²", None), ("", None)):
            take = self.send("60", late=late)
            self.assertEqual(take.targets.late_s, kept, late)
            take.delete()

    def test_where_the_stage_fixes_the_tempo_a_choice_changes_nothing(self):
        self.scene.assignment.stage = "at_tempo"
        self.scene.assignment.save()
        take = self.send("60")
        self.assertEqual((take.own_tempo, take.targets.tempo_qpm), (None, 92))
        self.assertFalse(self.data()["free"])

    def test_the_next_take_begins_where_the_last_clean_one_was(self):
        take = self.send("76")
        take.state = "analysed"
        take.save()
        take.analyses.create(engine_version="1", parameters={}, result={}, summary={"findings": 1}, seconds=1.0)
        self.assertEqual(self.data()["tempo"], 60)
        take.analyses.update(summary={"findings": 0})
        self.assertEqual(self.data()["tempo"], 76)


class NextThingTests(scenes.OwnFolders, TestCase):
    """One button on the task's page leads from the first look to the answer."""

    def setUp(self):
        self.scene = scenes.build()
        self.client.force_login(self.scene.ylva.student)

    def next(self) -> tuple[str, str]:
        found = self.client.get(reverse("task", args=[self.scene.task.pk])).context["next"]
        return (found.words, found.url) if found else ("", "")

    def test_it_goes_with_the_work(self):
        play = reverse("stand:play", args=[self.scene.task.pk])
        self.assertEqual(self.next(), ("Sit down and play", play))
        take = scenes.recorded(self.scene, hear=False)
        page = reverse("stand:take", args=[take.pk])
        self.assertEqual(self.next(), ("Take 1 is being heard", page))
        Take.objects.filter(pk=take.pk).update(state=TakeState.UNUSABLE)
        self.assertEqual(self.next(), ("Sit down and play", play))
        Take.objects.filter(pk=take.pk).update(state=TakeState.ANALYSED)
        self.assertEqual(self.next(), ("Listen back to take 1", page))
        review_own_take(take=Take.objects.get(pk=take.pk), marks=[], work_on="the leap")
        self.assertEqual(self.next(), ("Hand in take 1", page))
        submission = submit_take(take=Take.objects.get(pk=take.pk))
        self.assertEqual(self.next(), ("Play it once more", play))
        submission.answered_at = timezone.now()
        submission.save()
        self.assertEqual(self.next(), ("Read the answer to take 1", page))

    def test_a_step_on_the_way_does_not_stand_for_the_goal(self):
        self.scene.assignment.before_steps = ["clap"]
        self.scene.assignment.save()
        take = scenes.recorded(self.scene, hear=False)
        Take.objects.filter(pk=take.pk).update(state=TakeState.ANALYSED, basis={**take.basis, "step": "clap"})
        self.assertEqual(self.next()[0], "Sit down and play")

    def test_who_may_not_record_is_not_sent_to_play(self):
        self.scene.assignment.takes_allowed = 1
        self.scene.assignment.save()
        take = scenes.recorded(self.scene, hear=False)
        Take.objects.filter(pk=take.pk).update(state=TakeState.ANALYSED)
        Task.objects.filter(pk=take.task_id).update(takes_spent=1)
        submission = submit_take(take=self.listened(take))
        self.assertEqual(self.next(), ("", ""))
        self.assertFalse(submission.answered_at)

    def listened(self, take: Take) -> Take:
        review_own_take(take=Take.objects.get(pk=take.pk), marks=[], work_on="the leap")
        return Take.objects.get(pk=take.pk)
