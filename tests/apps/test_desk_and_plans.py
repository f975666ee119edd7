"""The passage desk, and what is planned around an assignment: steps, exceptions, series, templates, notes, sealed passages, listening."""

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
from didactor.core.score.write import Line, write_musicxml
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate, wav_bytes
from didactor.core.sound.recording import RATE_HZ, open_recording
from didactor.library import desk
from didactor.library.jobs import render_model
from didactor.library.models import ModelSound, Passage, Piece, Reference
from didactor.library.services import accompaniment_expectation, add_piece, cut_passage, expectation_of
from didactor.people.services import record_consent
from didactor.takes.jobs import analyse_take
from didactor.takes.reading import accompaniment_data
from didactor.takes.services import TakeRefused, receive_take, submit_take
from didactor.takes.uploads import _backing
from tests import scene as scenes
from tests.music import musicxml, wav

BACKEND = "django.contrib.auth.backends.ModelBackend"


class DeskTests(scenes.OwnFolders, TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.scene = scenes.build(listen_first=False)
        cls.passage = cls.scene.passage

    def setUp(self):
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        self.passage.refresh_from_db()
        self.note = list(desk.notes_of(self.passage))[2]

    def keep(self, version: int | None = None, **fields: str):
        url = reverse("library:passage_note", args=[self.passage.pk])
        return self.client.post(url, {"note": self.note, "version": version or self.passage.version, **fields}, follow=True)

    def test_a_note_gets_choices_and_pins_and_takes_are_judged_by_them(self):
        expected = expectation_of(revision_id=self.passage.revision_id, part=1, bars=self.passage.bars).notes
        written = next(n for n in expected if n.id == self.note)
        page = self.keep(alternatives="C6, Bb3", optional="on", fingering="3", warning="Not as before", remark="Breathe")
        self.assertContains(page, "Not as before")
        self.assertContains(page, "or B♭3 C6")
        self.assertContains(page, "aid fingers")
        basis = services.frozen_basis(self.scene.task)["targets"]
        self.assertEqual(basis["optional"], (self.note,))
        other = set(basis["alternatives"][self.note])
        self.assertEqual(len(other), 2)
        self.assertEqual({(m - written.sounding_midi) % 12 for m in other}, {(p - written.sounding_midi) % 12 for p in other})
        # The student meets it on the stand.
        self.client.force_login(self.scene.ylva.student, backend=BACKEND)
        stand = self.client.get(reverse("assignments:task", args=[self.scene.task.pk]))
        self.assertContains(stand, "Not as before")
        # A fingering is for the instrument it was written for alone.
        self.assertEqual(
            "aid fingers" in stand.content.decode(), self.scene.ylva.instrument == self.passage.pins.get(kind="fingering").instrument
        )

    def test_another_right_note_is_no_wrong_note(self):
        notes = expectation_of(revision_id=self.passage.revision_id, part=1, bars=self.passage.bars).notes
        fault = {"kind": "wrong", "note": 4, "semitones": 2}
        before = scenes.recorded(self.scene, fault)
        self.assertEqual([f["code"] for f in before.latest_analysis.result["findings"]], ["notes.wrong"])
        self.passage.alternatives = {notes[4].id: [2]}
        self.passage.save()
        self.scene.task.refresh_from_db()
        after = receive_take(
            student=self.scene.ylva.student, task=self.scene.task, source=io.BytesIO(before.original.read() + b"\0\0"), filename="b.wav"
        )
        analyse_take(take_id=after.pk)
        self.assertEqual(after.analyses.get().result["findings"], [])

    def test_two_teachers_do_not_overwrite_each_other(self):
        version = self.passage.version
        self.keep(version=version, remark="The first")
        page = self.keep(version=version, remark="The second")
        self.assertContains(page, "Somebody else changed this passage")
        self.assertEqual([p.text for p in self.passage.pins.all()], ["The first"])

    def test_bad_words_are_told_and_nothing_is_lost(self):
        page = self.keep(alternatives="H9")
        self.assertContains(page, "“H9” is no pitch")
        with self.assertRaises(PassageError):
            desk.set_note(passage=self.passage, version=self.passage.version, note_id="nowhere", fields={})
        url = reverse("library:passage_segments", args=[self.passage.pk])
        page = self.client.post(url, {"version": self.passage.version, "segments": "1-2 90-91"}, follow=True)
        self.assertContains(page, "There is no bar 90")
        self.client.post(url, {"version": self.passage.version, "segments": "5-6 7-8"})
        self.passage.refresh_from_db()
        self.assertEqual(self.passage.segments, ["5-6", "7-8"])

    def test_remarks_on_bars_come_and_go(self):
        url = reverse("library:passage_pins", args=[self.passage.pk])
        self.assertContains(self.client.post(url, {"version": "1", "bar": "77", "text": "x"}, follow=True), "Bar 77 is not in this passage")
        page = self.client.post(url, {"version": "1", "bar": "3", "text": "Count this one aloud."}, follow=True)
        self.assertContains(page, "Count this one aloud.")
        pin = self.passage.pins.get()
        page = self.client.post(url, {"version": "1", "unpin": pin.pk}, follow=True)
        self.assertContains(page, "Somebody else changed")
        self.client.post(url, {"version": "2", "unpin": pin.pk})
        self.assertFalse(self.passage.pins.exists())

    def test_cuts_are_proposed_within_the_passage(self):
        own = cut_passage(teacher=self.scene.teacher, revision=self.passage.revision, part=1, bars="2-6")
        proposals = dict(desk.desk_of(own).proposals)
        self.assertEqual(proposals["Two bars at a time"], "2-3 4-5 6")
        for title, text in proposals.items():
            for bars in text.split():
                first, _, last = bars.partition("-")
                self.assertTrue({first, last or first} <= {"2", "3", "4", "5", "6"}, (title, text))
        self.assertTrue(proposals["Phrases"].startswith("2-"), proposals)

    def test_a_trap_is_offered_and_warned_of_with_one_press(self):
        text = "C4:q E4:e F4:e G4:q E4:q | A4:w | C4:q E4:e F4:e A4:q E4:q | C4:w"
        with tempfile.TemporaryFile() as source:
            source.write(musicxml(text, fifths=0))
            source.flush()
            piece = add_piece(teacher=self.scene.teacher, upload=source, filename="trap.musicxml", title="A trap")
        passage = cut_passage(teacher=self.scene.teacher, revision=piece.current, part=1, bars="1-4")
        page = self.client.get(reverse("library:passage", args=[passage.pk]))
        [trap] = page.context["desk"].traps
        self.assertContains(page, "Bar 3 goes on otherwise than bar 1.")
        url = reverse("library:passage_pins", args=[passage.pk])
        page = self.client.post(url, {"version": passage.version, "note": trap.note_id, "text": trap.warning}, follow=True)
        self.assertEqual(page.context["desk"].traps, ())
        pin = passage.pins.get()
        self.assertEqual((pin.kind, pin.bar, pin.text), ("warning", "3", "Not as in bar 1"))
        self.assertContains(
            self.client.post(url, {"version": "2", "note": "nowhere", "text": "x"}, follow=True), "not in the passage any more"
        )

    def test_remarks_at_moments_of_a_recording(self):
        self.client.post(
            reverse("library:add_reference", args=[self.passage.pk]), {"file": SimpleUploadedFile("bow.wav", wav()), "title": "The bow arm"}
        )
        own = Reference.objects.get()
        url = reverse("library:passage_pins", args=[self.passage.pk])
        said = {"version": self.passage.version, "reference": own.pk, "text": "Here the elbow leads."}
        self.assertContains(self.client.post(url, {**said, "at": "soon"}, follow=True), "no moment of this recording")
        self.assertContains(self.client.post(url, {**said, "at": "0:03", "text": " "}, follow=True), "Write a few words")
        page = self.client.post(url, {**said, "at": "0:03.5"}, follow=True)
        self.assertContains(page, 'data-seek="3.50"')
        # It is no remark on the score, and students find it beside the recording.
        self.passage.refresh_from_db()
        self.assertEqual((desk.numbered_remarks(self.passage), desk.has_additions(self.passage)), ([], False))
        self.client.force_login(self.scene.ylva.student, backend=BACKEND)
        stand = self.client.get(reverse("assignments:task", args=[self.scene.task.pk]))
        self.assertContains(stand, "Here the elbow leads.")
        self.assertContains(stand, "0:03")

    def test_the_road_map_is_unfolded(self):
        piece = Piece.objects.get(pk=self.passage.revision.piece_id)
        own = cut_passage(teacher=self.scene.teacher, revision=piece.current, part=1, bars="5-8", order="5-6 5-6 7-8")
        self.assertEqual(desk.road_map_of(own), ("5–6", "5–8"))
        with self.assertRaises(PassageError):
            cut_passage(teacher=self.scene.teacher, revision=piece.current, part=1, bars="5-8", order="1-2")

    def test_a_reference_is_kept_heard_and_deleted(self):
        url = reverse("library:add_reference", args=[self.passage.pk])
        page = self.client.post(url, {"file": SimpleUploadedFile("notes.txt", b"no sound"), "title": ""}, follow=True)
        self.assertEqual(Reference.objects.count(), 0)
        self.assertContains(page, "message error")
        self.client.post(url, {"file": SimpleUploadedFile("own.wav", wav()), "title": "As I play it"})
        reference = Reference.objects.get()
        self.assertEqual((reference.kind, reference.title), ("sound", "As I play it"))
        self.client.force_login(self.scene.ylva.student, backend=BACKEND)
        self.assertEqual(self.client.get(reverse("library:reference", args=[reference.pk]))["Content-Type"], "audio/mp4")
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        self.client.post(reverse("library:delete_reference", args=[reference.pk]))
        self.assertFalse(Reference.objects.exists())

    def test_what_is_typed_is_engraved_and_kept(self):
        preview = reverse("library:write_fragment", args=["melody"])
        self.assertContains(self.client.post(preview, {"text": "X:1\nT:Gale\nL:1/4\nK:C\nCDEF|"}), "<svg")
        self.assertContains(self.client.post(preview, {"text": "  "}), "Nothing is written yet")
        url = reverse("library:write", args=["chart"])
        self.assertContains(self.client.post(url, {"text": "no chords at all"}), "trouble-box")
        self.client.post(url, {"text": "{title: Home}\n[C]Over the [G]sound"})
        self.assertEqual(Passage.objects.get(title="Home").bars, "1-2")


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
        self.assertContains(self.change(tempo=50, version=1), "Somebody else changed this assignment")
        self.assignment.refresh_from_db()
        self.assertContains(self.change(step="chords"), "nothing to strum from")
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
        page = self.client.get(reverse("takes:detail", args=[clapped.pk]))
        self.assertContains(page, "Count and clap")
        self.assertContains(page, "On to the next step")
        self.assertContains(page, "?step=play#record")
        on_the_stand = self.client.get(reverse("assignments:task", args=[task.pk]), {"step": "clap"})
        self.assertContains(on_the_stand, '<option value="clap" selected>')
        self.assertContains(on_the_stand, 'Take 1</a> <span class="quiet">Count and clap')
        self.assertNotContains(page, "Submit this take")
        self.assertEqual([slug for slug, _, _ in page.context["checklist"]], ["rhythm", "tempo", "flow", "other"])
        # The one take that is allowed is still there, and then it is used.
        played = receive_take(
            student=self.scene.ylva.student, task=task, source=io.BytesIO(wav() + b"\0\0"), filename="b.wav", step="nonsense"
        )
        self.assertEqual(played.basis["step"], "play")
        with self.assertRaises(TakeRefused):
            receive_take(**sent, source=io.BytesIO(wav() + bytes(4)))
        self.as_student()
        self.client.post(reverse("assignments:tick", args=[task.pk]), {"step": "count", "done": "1"})
        page = self.client.get(reverse("assignments:task", args=[task.pk]))
        self.assertContains(page, "Done; take it back")
        self.assertContains(page, "recorded and heard")

    def test_a_sealed_passage_shows_nothing_before_its_clock(self):
        self.assignment.preparation_s = 45
        self.assignment.save()
        self.as_student()
        url = reverse("assignments:task", args=[self.task.pk])
        page = self.client.get(url)
        self.assertNotContains(page, '<svg class="score')
        self.assertNotContains(page, "data-model")
        self.assertRedirects(self.client.get(reverse("assignments:study", args=[self.task.pk])), url)
        with self.assertRaises(TakeRefused):
            receive_take(
                student=self.scene.ylva.student, task=Task.objects.get(pk=self.task.pk), source=io.BytesIO(wav()), filename="a.wav"
            )
        sound = self.task.passage.model_sounds.first()
        sound.sound.save("x.mp3", ContentFile(b"x" * 100))
        model = reverse("library:model_sound", args=[sound.pk])
        self.assertEqual(self.client.get(model).status_code, 404)
        page = self.client.post(reverse("assignments:open_sealed", args=[self.task.pk]), follow=True)
        self.assertEqual(self.client.get(model).status_code, 200)
        self.assertContains(page, 'data-countdown="4')
        opened = Task.objects.get(pk=self.task.pk).opened_at
        self.client.post(reverse("assignments:open_sealed", args=[self.task.pk]))
        self.assertEqual(Task.objects.get(pk=self.task.pk).opened_at, opened)

    def create(self, **fields: object):
        url = reverse("assignments:create") + f"?passage={self.scene.passage.pk}"
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
        self.assertContains(self.client.get(reverse("assignments:task", args=[own.pk])), "Tempi on the way: 50, 58, then quarter = 66")
        self.assertContains(self.client.get(reverse("assignments:study", args=[own.pk])), "Begin at 50, then 58")
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        self.create(series="Scales of the term", title="The second")
        self.assertEqual(made.series.assignments.count(), 2)
        grid = self.client.get(reverse("assignments:series", args=[made.series_id]))
        self.assertContains(grid, "0 of 2")
        template = Template.objects.get()
        start = reverse("assignments:create") + f"?passage={self.scene.passage.pk}"
        self.assertEqual(self.client.get(f"{start}&template={template.pk}").context["form"]["tempo"].value(), 66.0)
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
        self.assertContains(self.client.get(reverse("assignments:stand")), "Bring the red book.")
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
        url = reverse("assignments:create") + f"?passage={passage.pk}"
        data = {**kept_of(self.assignment), "title": "Gulls", "due_at": "2030-01-01T20:00", "enrolments": [self.scene.ylva.pk]}
        data |= {"step": "play", "question": "Which instrument leads?"}
        self.client.post(url, {k: v for k, v in data.items() if v is not None})
        task = Task.objects.get(assignment__title="Gulls")
        self.assertEqual(task.assignment.step, "listen")
        self.as_student()
        page = self.client.get(reverse("assignments:task", args=[task.pk]))
        self.assertContains(page, "Which instrument leads?")
        self.assertContains(page, "<audio")
        self.assertContains(page, "Or answer by playing")
        played = receive_take(student=self.scene.ylva.student, task=task, source=io.BytesIO(wav()), filename="a.wav")
        analyse_take(take_id=played.pk)
        played.refresh_from_db()
        self.assertEqual((played.state, played.analyses.count(), bool(played.playback)), ("analysed", 0, True))
        self.assertEqual(self.client.get(reverse("takes:detail", args=[played.pk])).status_code, 200)
        answer = reverse("assignments:answer", args=[task.pk])
        self.assertContains(self.client.post(answer, {"answer": " "}, follow=True), "Write a few words first")
        self.client.post(answer, {"answer": "The cello."})
        task.refresh_from_db()
        self.assertEqual((task.state, task.answer), (TaskState.HANDED_IN, "The cello."))
        self.client.force_login(self.scene.teacher, backend=BACKEND)
        self.assertContains(self.client.get(reverse("assignments:detail", args=[task.assignment_id])), "The cello.")
        self.client.post(reverse("assignments:decide_answer", args=[task.pk]), {"passed": "1"})
        task.refresh_from_db()
        self.assertEqual(task.state, TaskState.PASSED)

    def test_checklists_begin_with_what_the_stage_and_the_instruments_ask(self):
        self.assertEqual(checklist_for("sight_reading", {"woodwind"}), ["notes", "rhythm", "flow", "dynamics", "hands"])
        self.assertNotIn("intonation", checklist_for("at_tempo", {"keys"}))
        self.assertIn("intonation", checklist_for("at_tempo", {"keys", "strings"}))
        page = self.client.get(reverse("assignments:checklist_fragment"), {"stage": "first_reading", "enrolments": self.scene.ylva.pk})
        self.assertContains(page, "checked", count=3)
