"""What is planned around an assignment: steps, exceptions, series, templates, notes, sealed passages, listening, accompaniments."""

from __future__ import annotations

import io
import tempfile
from datetime import timedelta

import icalendar
import numpy as np
import soxr
from django.core.files.base import ContentFile
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from didactor.assignments import services
from didactor.assignments.calendar import calendar_key
from didactor.assignments.checklists import checklist_for
from didactor.assignments.forms import kept_of
from didactor.assignments.models import Assignment, Task, TaskState, Template, WeekNote
from didactor.core.errors import PassageError
from didactor.core.instruments import BY_SLUG
from didactor.core.score.write.as_musicxml import Line, write_musicxml
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate, wav_bytes
from didactor.core.sound.recording import RATE_HZ, open_recording
from didactor.library import desk
from didactor.library.jobs import render_model
from didactor.library.models import ModelSound
from didactor.library.notation import accompaniment_expectation, expectation_of
from didactor.library.services import add_piece, cut_passage
from didactor.people.services import add_student, record_consent
from didactor.stand.pages import accompaniment_data
from didactor.takes.jobs import analyse_take
from didactor.takes.services import TakeRefused, receive_take, submit_take
from didactor.takes.uploads import _backing
from tests import scene as scenes
from tests.music import silence, wav

BACKEND = "didactor.people.backends.PasswordBackend"


class AccompanimentTests(scenes.OwnFolders, TestCase):
    MELODY = "C5:w | D5:w | " + "G4:q A4:q B4:q C5:q | D5:q C5:q B4:q A4:q | G4:q B4:q D5:q B4:q | G4:w"
    BASS = "C3:h G3:h | C3:h G3:h | G2:h D3:h | G2:h D3:h | G2:h D3:h | G2:w"

    def test_it_is_rendered_played_and_taken_out_of_the_take(self):
        scene = scenes.build(listen_first=False)
        xml = write_musicxml([Line(text=self.MELODY, name="Violin", fifths=1), Line(text=self.BASS, name="Cello", fifths=1, clef="bass")])
        with tempfile.TemporaryFile() as source:
            source.write(xml)
            source.flush()
            piece = add_piece(teacher=scene.teacher, upload=source, filename="duet.musicxml", title="Duet")
        passage = cut_passage(teacher=scene.teacher, revision=piece.current, part=1, bars="3-6")
        with self.assertRaisesMessage(PassageError, "There are 2 bars before"):
            desk.set_accompaniment(passage=passage, version=1, part=2, intro_bars=3)
        self.client.force_login(scene.teacher, backend=BACKEND)
        url = reverse("library:passage_accompaniment", args=[passage.pk])
        self.client.post(url, {"version": "1", "part": "2", "intro_bars": "2"})
        passage.refresh_from_db()
        self.assertEqual((passage.accompaniment, passage.intro_bars), (2, 2))
        expected = accompaniment_expectation(passage, 2, 2)
        self.assertEqual([b.number for b in expected.bars], ["1", "2", "3", "4", "5", "6"])
        fields = {"title": "Duet", "due_at": timezone.now(), "tempo": 80.0, "band_percent": 5.0, "count_off": 2}
        assignment = services.assign(teacher=scene.teacher, passage=passage, enrolments=[scene.ossian], fields=fields)
        task = assignment.tasks.get()
        sound = ModelSound.objects.get(of_part=2)
        self.assertIsNone(accompaniment_data(task))
        render_model(model_sound_id=sound.pk)
        told = accompaniment_data(task)
        self.assertAlmostEqual(told["leadS"], 0.3 + 2 * 0.75 + 8 * 0.75)
        # What the recorder would send: the playing with the track in the room, which began 0.4 s into the take.
        own = expectation_of(revision_id=passage.revision_id, part=1, bars=passage.bars)
        player = simulate(own, BY_SLUG["violin"], 80.0, style=Style(scatter_ms=5.0), room="bedroom", seed=2, source="additive")
        playing = soxr.resample(player.samples, SYNTH_RATE_HZ, RATE_HZ)
        sound.refresh_from_db()
        with sound.sound.open("rb") as source:
            track = open_recording(source).samples
        mixed = np.zeros(int(0.4 * RATE_HZ) + max(len(track), int(told["leadS"] * RATE_HZ) + len(playing)) + RATE_HZ)
        begin = int(0.4 * RATE_HZ)
        mixed[begin : begin + len(track)] += 0.4 * track / np.abs(track).max()
        enters = begin + int((told["leadS"] - player.truth["notes"][0]["onset_s"]) * RATE_HZ)
        mixed[enters : enters + len(playing)] += 0.5 * playing / np.abs(playing).max()
        scenes_consent(scene)
        take = receive_take(
            student=scene.ossian.student,
            task=task,
            source=io.BytesIO(wav_bytes(mixed.astype(np.float32), RATE_HZ)),
            filename="take.wav",
            backing={"sound": sound.pk, "at_s": 0.4},
        )
        analyse_take(take_id=take.pk)
        result = take.analyses.get().result
        self.assertEqual({n["status"] for n in result["notes"]}, {"correct"})
        self.assertEqual([f["code"] for f in result["findings"] if f["category"] == "notes"], [])
        self.assertIsNone(_backing(scene.task, f"{sound.pk} 0.4"))
        self.assertEqual(_backing(task, f"{sound.pk} 0.4"), {"sound": sound.pk, "at_s": 0.4})


def scenes_consent(scene: scenes.Scene) -> None:
    record_consent(student=scene.ossian.student, given_by="Runa", recorded_by=scene.teacher)


class PlanTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)

    def setUp(self):
        self.assignment, self.task = self.scene.assignment, self.scene.task
        self.assignment.refresh_from_db()
        self.client.force_login(self.scene.teacher, backend=BACKEND)

    def as_student(self):
        self.client.force_login(self.scene.ylva.student, backend=BACKEND)

    def change(self, **fields: object):
        data = {
            **kept_of(self.assignment),
            "title": self.assignment.title,
            "due_at": "2030-01-01T20:00",
            "version": self.assignment.version,
        }
        data = {k: v for k, v in (data | fields).items() if v is not None}
        return self.client.post(reverse("assignments:change", args=[self.assignment.pk]), data, follow=True)

    def test_a_change_never_reaches_back(self):
        take = scenes.recorded(self.scene)
        was = take.basis["targets"]["tempo_qpm"]
        self.assertContains(self.change(tempo=99), "keep what they were judged against")
        take.refresh_from_db()
        self.task.refresh_from_db()
        self.assertEqual(
            (take.basis["targets"]["tempo_qpm"], self.scene.task.__class__.objects.get(pk=self.task.pk).targets.tempo_qpm), (was, 99.0)
        )
        self.assertContains(self.change(tempo=50, version=1), "Somebody else changed this assignment", status_code=409)
        self.assignment.refresh_from_db()
        self.assertContains(self.change(step="chords"), "nothing to strum from", status_code=422)
        self.assignment.refresh_from_db()
        self.assertEqual(self.assignment.tempo, 99.0)

    def test_one_student_has_a_tempo_and_a_date_of_their_own(self):
        url = reverse("assignments:exception", args=[self.task.pk])
        self.assertContains(self.client.post(url, {"due_at": "2001-01-01T10:00"}), "already passed")
        self.client.post(url, {"tempo": "55", "due_at": "2031-05-01T10:00"})
        task = Task.objects.get(pk=self.task.pk)
        self.assertEqual((task.targets.tempo_qpm, task.due_at.year), (55.0, 2031))
        self.assertTrue(task.passage.model_sounds.filter(tempo_qpm=55.0).exists())
        others = Task.objects.exclude(pk=task.pk).first()
        self.assertNotEqual(others.due_at.year, 2031)

    def test_steps_are_recorded_by_their_own_method_and_not_handed_in(self):
        self.assignment.before_steps, self.assignment.takes_allowed = ["count", "clap"], 1
        self.assignment.save()
        task = Task.objects.get(pk=self.task.pk)
        sent = {"student": self.scene.ylva.student, "task": task, "filename": "a.wav"}
        clapped = receive_take(**sent, source=io.BytesIO(wav()), step="clap")
        self.assertEqual((clapped.basis["step"], clapped.basis["targets"]["step"]), ("clap", "clap"))
        clapped.state = "analysed"
        clapped.save()
        with self.assertRaisesMessage(TakeRefused, "a step on the way"):
            submit_take(take=clapped)
        # A step is heard at once, has a short checklist, and leads on instead of being handed in.
        Assignment.objects.filter(pk=self.assignment.pk).update(listen_first=True)
        self.as_student()
        page = self.client.get(reverse("stand:take", args=[clapped.pk]))
        self.assertContains(page, "Count and clap")
        self.assertContains(page, "On to the next step")
        self.assertContains(page, "?step=play#record")
        on_the_stand = self.client.get(reverse("task", args=[task.pk]), {"step": "clap"})
        self.assertContains(on_the_stand, '<option value="clap" selected>')
        self.assertContains(on_the_stand, 'Take 1</a> <span class="quiet">Count and clap')
        self.assertNotContains(page, "Submit this take")
        self.assertEqual([row.name for row in page.context["checklist"]], ["rhythm", "tempo", "flow", "other"])
        # The one take that is allowed is still there, and then it is used.
        played = receive_take(
            student=self.scene.ylva.student, task=task, source=io.BytesIO(wav() + b"\0\0"), filename="b.wav", step="nonsense"
        )
        self.assertEqual(played.basis["step"], "play")
        with self.assertRaises(TakeRefused):
            receive_take(**sent, source=io.BytesIO(wav() + bytes(4)))
        self.as_student()
        self.client.post(reverse("stand:tick", args=[task.pk]), {"step": "count", "done": "1"})
        page = self.client.get(reverse("task", args=[task.pk]))
        self.assertContains(page, "Done; take it back")
        self.assertContains(page, "recorded and heard")

    def test_one_hand_alone_can_be_the_goal_where_there_are_two(self):
        fields = {"title": "Left", "due_at": timezone.now() + timedelta(days=2), "tempo": 80.0, "band_percent": 5.0, "step": "left"}
        with self.assertRaisesMessage(PassageError, "written on one staff"):
            services.assign(teacher=self.scene.teacher, passage=self.assignment.passage, enrolments=[self.scene.ylva], fields=fields)
        with self.assertRaisesMessage(PassageError, "no chord symbols"):
            more = {**fields, "step": "play", "before_steps": ["chords"]}
            services.assign(teacher=self.scene.teacher, passage=self.assignment.passage, enrolments=[self.scene.ylva], fields=more)
        with tempfile.TemporaryFile() as source:
            source.write(write_musicxml([Line(text="C5:q D5:q E5:q F5:q | G5:w", lower="C3:h G3:h | r:w", name="Piano")]))
            source.flush()
            piece = add_piece(teacher=self.scene.teacher, upload=source, filename="hands.musicxml", title="Hands")
        pianist = add_student(studio=self.scene.teacher.studio, name="Nell", instrument="piano", level="beginner")
        both, right_only = (cut_passage(teacher=self.scene.teacher, revision=piece.current, part=1, bars=bars) for bars in ("1-2", "2"))
        with self.assertRaises(PassageError):
            services.assign(teacher=self.scene.teacher, passage=right_only, enrolments=[pianist], fields=fields)
        task = services.assign(teacher=self.scene.teacher, passage=both, enrolments=[pianist], fields=fields).tasks.get()
        self.assertEqual((task.targets.step, task.targets.staff), ("play", 2))
        take = receive_take(student=pianist.student, task=task, source=io.BytesIO(wav()), filename="left.wav")
        self.assertIsNone(take.on_the_way)
        # A player of one voice gets the upper line: there is no hand to play alone.
        more = {**fields, "step": "play", "before_steps": ["clap", "right", "left"]}
        tasks = services.assign(teacher=self.scene.teacher, passage=both, enrolments=[pianist, self.scene.ylva], fields=more).tasks
        slugs = {task.enrolment.instrument: [step.slug for step in task.steps] for task in tasks.all()}
        self.assertEqual(slugs, {"piano": ["clap", "right", "left", "play"], "clarinet": ["clap", "play"]})
        alone = services.assign(teacher=self.scene.teacher, passage=both, enrolments=[self.scene.ylva], fields=fields).tasks.get()
        self.assertIsNone(alone.targets.staff)

    def test_a_sealed_passage_shows_nothing_before_its_clock(self):
        self.assignment.preparation_s = 45
        self.assignment.save()
        self.as_student()
        url = reverse("task", args=[self.task.pk])
        page = self.client.get(url)
        self.assertNotContains(page, '<svg class="score')
        self.assertNotContains(page, "Hear it")
        self.assertRedirects(self.client.get(reverse("study", args=[self.task.pk])), url)
        with self.assertRaises(TakeRefused):
            receive_take(
                student=self.scene.ylva.student, task=Task.objects.get(pk=self.task.pk), source=io.BytesIO(wav()), filename="a.wav"
            )
        sound = self.task.passage.model_sounds.first()
        sound.sound.save("x.mp3", ContentFile(b"x" * 100))
        model = reverse("library:model_sound", args=[sound.pk])
        self.assertEqual(self.client.get(model).status_code, 404)
        page = self.client.post(reverse("stand:open_sealed", args=[self.task.pk]), follow=True)
        self.assertEqual(self.client.get(model).status_code, 200)
        self.assertContains(page, 'data-countdown="4')
        opened = Task.objects.get(pk=self.task.pk).opened_at
        self.client.post(reverse("stand:open_sealed", args=[self.task.pk]))
        self.assertEqual(Task.objects.get(pk=self.task.pk).opened_at, opened)

    def create(self, **fields: object):
        url = reverse("assign") + f"?passage={self.scene.passage.pk}"
        data = {**kept_of(self.assignment), "title": "Once more", "due_at": "2030-01-01T20:00", "enrolments": [self.scene.ylva.pk]}
        return self.client.post(url, {k: v for k, v in (data | fields).items() if v is not None}, follow=True)

    def test_series_templates_and_giving_it_again(self):
        self.assertContains(self.create(ladder="60 50"), "A ladder rises")
        self.assertContains(self.create(ladder="60 500"), "A ladder rises")
        self.assertContains(self.create(ladder="60 70", tempo=66), "beyond the target")
        self.assertContains(self.create(ladder="slow"), "as numbers")
        self.create(series="Scales of the term", keep_as="Check-off", tempo=66, ladder="50, 58")
        made = Assignment.objects.get(title="Once more")
        self.assertEqual((made.series.title, made.ladder), ("Scales of the term", [50.0, 58.0]))
        self.as_student()
        own = made.tasks.get()
        self.assertContains(self.client.get(reverse("task", args=[own.pk])), "Tempi on the way: 50, 58, then quarter = 66")
        self.assertContains(self.client.get(reverse("study", args=[own.pk])), "Begin at 50, then 58")
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        self.create(series="Scales of the term", title="The second")
        self.assertEqual(made.series.assignments.count(), 2)
        grid = self.client.get(reverse("assignments:series", args=[made.series_id]))
        self.assertContains(grid, "0 of 2")
        template = Template.objects.get()
        start = reverse("assign") + f"?passage={self.scene.passage.pk}"
        self.assertEqual(self.client.get(f"{start}&template={template.pk}").context["form"]["tempo"].value(), "66")
        again = self.client.get(f"{start}&from={made.pk}").context["form"]
        self.assertEqual((again["title"].value(), list(again["enrolments"].value())), ("Once more", [self.scene.ylva.pk]))
        self.assertGreaterEqual(again.initial["due_at"], made.due_at + timedelta(days=7))

    def test_a_note_of_the_week_reaches_its_group(self):
        url = reverse("assignments:week_note")
        today = timezone.localdate().isoformat()
        self.client.post(url, {"week": today, "text": "Bring the blue book."})
        self.client.post(url, {"week": today, "text": "Bring the red book."})
        self.assertEqual(WeekNote.objects.get().text, "Bring the red book.")
        self.as_student()
        self.assertContains(self.client.get(reverse("stand:index")), "Bring the red book.")
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        self.client.post(url, {"week": today, "text": " "})
        self.assertFalse(WeekNote.objects.exists())

    def test_the_calendar_tells_due_dates_to_whoever_has_its_address(self):
        self.client.logout()
        url = reverse("assignments:calendar", args=[calendar_key(self.scene.ylva.student)])
        read = icalendar.Calendar.from_ical(self.client.get(url).content)
        events = list(read.walk("VEVENT"))
        self.assertEqual([str(e["summary"]) for e in events], [f"Due: {self.assignment.title}"])
        self.assertEqual(events[0]["dtend"].dt, self.task.due_at.replace(microsecond=0))
        self.assertEqual(self.client.get(reverse("assignments:calendar", args=["forged"])).status_code, 404)
        # In other hands, an address is replaced.
        self.as_student()
        page = self.client.post(reverse("assignments:calendar_address"), follow=True)
        self.client.logout()
        self.assertEqual(self.client.get(url).status_code, 404)
        self.assertEqual(self.client.get(page.context["address"]).status_code, 200)

    def test_a_teachers_calendar_has_each_assignment_once(self):
        url = reverse("assignments:calendar", args=[calendar_key(self.scene.teacher)])
        self.client.logout()
        events = {str(e["summary"]): e for e in icalendar.Calendar.from_ical(self.client.get(url).content).walk("VEVENT")}
        self.assertEqual(len(events), Assignment.objects.count())
        self.assertIn("have handed in", str(events[f"Due: {self.assignment.title}"]["description"]))

    def test_listening_is_answered_in_words(self):
        page = self.client.post(
            reverse("library:add_recording"), {"title": "Gulls at dusk", "file": SimpleUploadedFile("g.wav", wav())}, follow=True
        )
        passage = page.context["passage"]
        url = reverse("assign") + f"?passage={passage.pk}"
        data = {**kept_of(self.assignment), "title": "Gulls", "due_at": "2030-01-01T20:00", "enrolments": [self.scene.ylva.pk]}
        data |= {"step": "play", "question": "Which instrument leads?"}
        self.client.post(url, {k: v for k, v in data.items() if v is not None})
        task = Task.objects.get(assignment__title="Gulls")
        self.assertEqual(task.assignment.step, "listen")
        self.as_student()
        page = self.client.get(reverse("task", args=[task.pk]))
        self.assertContains(page, "Which instrument leads?")
        self.assertContains(page, "<audio")
        self.assertContains(page, "Or answer by playing")
        played = receive_take(student=self.scene.ylva.student, task=task, source=io.BytesIO(wav()), filename="a.wav")
        analyse_take(take_id=played.pk)
        played.refresh_from_db()
        self.assertEqual((played.state, played.analyses.count(), bool(played.playback)), ("analysed", 0, True))
        self.assertEqual(self.client.get(reverse("stand:take", args=[played.pk])).status_code, 200)
        answer = reverse("stand:answer", args=[task.pk])
        self.assertContains(self.client.post(answer, {"answer": " "}, follow=True), "Write a few words first")
        self.client.post(answer, {"answer": "The cello."})
        task.refresh_from_db()
        self.assertEqual((task.state, task.answer), (TaskState.HANDED_IN, "The cello."))
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        self.assertContains(self.client.get(reverse("assignment", args=[task.assignment_id])), "The cello.")
        self.client.post(reverse("assignments:decide_answer", args=[task.pk]), {"passed": "1"})
        task.refresh_from_db()
        self.assertEqual(task.state, TaskState.PASSED)

    def test_checklists_begin_with_what_the_stage_and_the_instruments_ask(self):
        self.assertEqual(checklist_for("sight_reading", {"woodwind"}), ["notes", "rhythm", "flow", "dynamics", "hands"])
        self.assertNotIn("intonation", checklist_for("at_tempo", {"keys"}))
        self.assertIn("intonation", checklist_for("at_tempo", {"keys", "strings"}))
        page = self.client.get(reverse("assignments:checklist_fragment"), {"stage": "first_reading", "enrolments": self.scene.ylva.pk})
        self.assertContains(page, "checked", count=3)


class RoadTests(scenes.OwnFolders, TestCase):
    """The order of playing that is judged is the one that is shown, wherever the bars are."""

    def test_an_order_of_the_teacher_s_own_is_shown_unfolded_on_every_page_of_the_passage(self) -> None:
        scene = scenes.build(listen_first=False)
        passage = cut_passage(teacher=scene.teacher, revision=scene.passage.revision, part=1, bars="1-6", order="1-2 1-2 5-6")
        fields = {"title": "In an order", "due_at": scene.assignment.due_at, "tempo": 80.0, "band_percent": 5.0, "listen_first": False}
        assignment = services.assign(teacher=scene.teacher, passage=passage, enrolments=[scene.ylva], fields=fields)
        task = assignment.tasks.get()
        take = receive_take(student=scene.ylva.student, task=task, source=io.BytesIO(silence(3.0)), filename="a.wav")
        analyse_take(take_id=take.pk)
        shown = "<li>1–2</li><li>1–2</li><li>5–6</li>"
        for who, names in (
            (scene.ylva.student, (("task", task.pk), ("study", task.pk), ("stand:take", take.pk))),
            (scene.teacher, (("assignment", assignment.pk),)),
        ):
            self.client.force_login(who, backend="didactor.people.backends.PasswordBackend")
            for name, pk in names:
                with self.subTest(name=name):
                    self.assertContains(self.client.get(reverse(name, args=[pk])), shown)
        # Straight on, nothing needs saying.
        self.client.force_login(scene.ylva.student, backend="didactor.people.backends.PasswordBackend")
        self.assertNotContains(self.client.get(reverse("task", args=[scene.task.pk])), "As it is played")
