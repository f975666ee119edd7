"""The passage desk: choices, pins, cuts, road map, recordings of the teacher's own; nobody overwrites another's change."""

from __future__ import annotations

import io
import tempfile

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse

from didactor.assignments import services
from didactor.core.errors import PassageError
from didactor.library import desk
from didactor.library.models import Passage, Piece, Reference
from didactor.library.notation import expectation_of
from didactor.library.services import add_piece, cut_passage
from didactor.takes.jobs import analyse_take
from didactor.takes.services import receive_take
from tests import scene as scenes
from tests.music import musicxml, wav

BACKEND = "didactor.people.backends.PasswordBackend"


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

    def test_a_note_that_is_not_in_the_passage_has_no_form(self):
        url = reverse("library:passage_note", args=[self.passage.pk])
        self.assertContains(self.client.get(url, {"note": self.note}), 'name="fingering"')
        for other in ("", "n99-0-0-1-C4", "²"):
            self.assertEqual(self.client.get(url, {"note": other}).status_code, 404)

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
        stand = self.client.get(reverse("task", args=[self.scene.task.pk]))
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
        self.assertContains(page, "Somebody else changed this passage", status_code=409)
        self.assertEqual([p.text for p in self.passage.pins.all()], ["The first"])

    def test_bad_words_are_told_and_nothing_is_lost(self):
        page = self.keep(alternatives="H9")
        self.assertContains(page, "“H9” is no pitch", status_code=422)
        with self.assertRaises(PassageError):
            desk.set_note(passage=self.passage, version=self.passage.version, note_id="nowhere", fields={})
        url = reverse("library:passage_segments", args=[self.passage.pk])
        page = self.client.post(url, {"version": self.passage.version, "segments": "1-2 90-91"}, follow=True)
        self.assertContains(page, "There is no bar 90", status_code=422)
        self.client.post(url, {"version": self.passage.version, "segments": "5-6 7-8"})
        self.passage.refresh_from_db()
        self.assertEqual(self.passage.segments, ["5-6", "7-8"])

    def test_remarks_on_bars_come_and_go(self):
        url = reverse("library:passage_pins", args=[self.passage.pk])
        self.assertContains(
            self.client.post(url, {"version": "1", "bar": "77", "text": "x"}), "Bar 77 is not in this passage", status_code=422
        )
        page = self.client.post(url, {"version": "1", "bar": "3", "text": "Count this one aloud."}, follow=True)
        self.assertContains(page, "Count this one aloud.")
        pin = self.passage.pins.get()
        page = self.client.post(url, {"version": "1", "unpin": pin.pk}, follow=True)
        self.assertContains(page, "Somebody else changed", status_code=409)
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
            self.client.post(url, {"version": "2", "note": "nowhere", "text": "x"}), "not in the passage any more", status_code=422
        )

    def test_remarks_at_moments_of_a_recording(self):
        self.client.post(
            reverse("library:add_reference", args=[self.passage.pk]), {"file": SimpleUploadedFile("bow.wav", wav()), "title": "The bow arm"}
        )
        own = Reference.objects.get()
        url = reverse("library:passage_pins", args=[self.passage.pk])
        said = {"version": self.passage.version, "reference": own.pk, "text": "Here the elbow leads."}
        self.assertContains(self.client.post(url, {**said, "at": "soon"}), "no moment of this recording", status_code=422)
        self.assertContains(self.client.post(url, {**said, "at": "0:03", "text": " "}), "Write a few words", status_code=422)
        page = self.client.post(url, {**said, "at": "0:03.5"}, follow=True)
        self.assertContains(page, 'data-seek="3.50"')
        # It is no remark on the score, and students find it beside the recording.
        self.passage.refresh_from_db()
        self.assertEqual((desk.numbered_remarks(self.passage), desk.has_additions(self.passage)), ([], False))
        self.client.force_login(self.scene.ylva.student, backend=BACKEND)
        stand = self.client.get(reverse("task", args=[self.scene.task.pk]))
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
        self.assertContains(page, "message error", status_code=422)
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
