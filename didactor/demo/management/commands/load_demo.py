from __future__ import annotations

import secrets
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.core.files.uploadedfile import TemporaryUploadedFile
from django.core.management.base import BaseCommand, CommandParser
from django.utils import timezone

from didactor.assignments.chains import hang_rehearsal
from didactor.assignments.models import FULL_CHECKLIST, Assignment
from didactor.assignments.services import assign, usual_beat, write_week_note
from didactor.core.instruments import find_instrument
from didactor.core.judging.stages import BY_SLUG as STAGES
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.expression import drawn
from didactor.core.sound.player.performance import Style
from didactor.core.sound.player.take import simulate, wav_bytes
from didactor.demo.film import film_of
from didactor.demo.further import load_further
from didactor.demo.left import leave
from didactor.demo.practising import drill, practise, read_at_sight
from didactor.demo.scenario import (
    ASSIGNMENTS,
    EXERCISES,
    NOT_READING_YET,
    NOTE_COLOURS,
    READ_AT_SIGHT,
    STUDENTS,
    STUDIO,
    TEACHER,
    WEEK_NOTE,
    WITH_AN_ADDRESS,
    DemoAssignment,
    DemoExercise,
    DemoReference,
)
from didactor.demo.takes import record
from didactor.library import desk
from didactor.library.exercises import keep
from didactor.library.jobs import lay_reference
from didactor.library.models import Passage, Piece
from didactor.library.notation import expectation_of_passage, read_part
from didactor.library.services import add_piece, cut_passage
from didactor.people.models import Enrolment, Person, Role, Studio
from didactor.people.services import add_guardian, add_student, make_card, record_consent, set_reading

SCORES = Path(__file__).resolve().parents[2] / "scores"


class Command(BaseCommand):
    """Loads the scenario once: people, pieces, assignments, and takes that are rendered and heard like any other."""

    help = "Load the demo; --further adds what its first pages can do without: a band’s takes and the weeks before."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--further", action="store_true")

    def handle(self, *args: Any, **options: Any) -> None:
        if options["further"]:
            load_further(self.stdout.write)
            return
        if Studio.objects.filter(name=STUDIO).exists():
            self.stdout.write("    is loaded already")
            return
        teacher, people, lines = self._people()
        pieces = {path.stem: self._piece(teacher, path) for path in sorted(SCORES.glob("*.musicxml"))}
        for demo in ASSIGNMENTS:
            self._assignment(teacher, people, pieces[demo.score], demo)
        for exercise in EXERCISES:
            self._exercise(teacher, people, exercise)
        for name, lines_read in READ_AT_SIGHT.items():
            read_at_sight(people[name], lines_read)
            self.stdout.write(f"    {name}: {len(lines_read)} lines at sight")
        write_week_note(teacher=teacher, group=None, day=timezone.localdate(), text=WEEK_NOTE)
        lines.append(f"  As {STUDENTS[0][0]} at /demo/left/: a recording is left on that device, to be sent from the stand.")
        path = Path(settings.STATE) / "demo.txt"
        path.write_text("\n".join(lines) + "\n")
        path.chmod(0o600)

    def _people(self) -> tuple[Person, dict[str, Enrolment], list[str]]:
        studio = Studio.objects.create(name=STUDIO, note_colours=NOTE_COLOURS)
        password = secrets.token_urlsafe(9)
        teacher = Person.objects.create_user(
            username=TEACHER[0], password=password, name=TEACHER[1], role=Role.TEACHER, studio=studio, is_owner=True
        )
        lines = [
            "Demo sign-ins (kept in the state folder, demo.txt):",
            f"  {'Teacher':<10}{TEACHER[1]:<18}name {TEACHER[0]}, password {password}",
        ]
        Person.objects.filter(pk=teacher.pk).update(email=f"{TEACHER[0]}@tern-sound.example")
        people = {}
        for name, instrument, level, group, guardian in STUDENTS:
            enrolment = add_student(studio=studio, name=name, instrument=instrument, level=level, group_name=group, is_minor=bool(guardian))
            people[name] = enrolment
            if name in WITH_AN_ADDRESS:
                Person.objects.filter(pk=enrolment.student_id).update(email=f"{name.split()[0].lower()}@tern-sound.example")
            lines.append(f"  {'Student':<10}{name:<18}card {make_card(enrolment.student)}   ({instrument})")
            if guardian:
                adult = add_guardian(student=enrolment.student, name=guardian)
                record_consent(student=enrolment.student, given_by=guardian, recorded_by=teacher)
            if name in NOT_READING_YET:
                set_reading(student=enrolment.student, reads_notes=False)
                lines.append(f"  {'Guardian':<10}{guardian:<18}card {make_card(adult)}   (of {name})")
        return teacher, people, lines

    def _piece(self, teacher: Person, path: Path) -> Piece:
        with path.open("rb") as source:
            return add_piece(teacher=teacher, upload=source, filename=path.name)

    def _assignment(self, teacher: Person, people: dict[str, Enrolment], piece: Piece, demo: DemoAssignment) -> None:
        passage = cut_passage(teacher=teacher, revision=piece.current, part=1, bars=demo.bars)
        if demo.accompaniment:
            part, intro = demo.accompaniment
            desk.set_accompaniment(passage=passage, version=passage.version, part=part, intro_bars=intro)
        stage = STAGES[demo.stage]
        due = (timezone.localtime() + timedelta(days=demo.due_days)).replace(hour=20, minute=0, second=0, microsecond=0)
        assignment = assign(
            teacher=teacher,
            passage=passage,
            enrolments=[people[name] for name in demo.students],
            fields={
                "title": demo.title,
                "instructions": demo.instructions,
                "due_at": due,
                "tempo": demo.tempo,
                "beat_unit": demo.beat_unit,
                "stage": demo.stage,
                "band_percent": stage.band_percent,
                "count_off": usual_beat(passage)[1],
                "takes_allowed": demo.takes_allowed or stage.takes,
                "checklist": FULL_CHECKLIST,
                "students_see": demo.students_see,
                "step": demo.step,
                "before_steps": list(demo.before_steps),
                "series": demo.series,
                "minutes": demo.minutes,
                "place": demo.place,
                "fast_tempo": demo.fast_tempo,
            },
        )
        if demo.rehearsal_days:
            hang_rehearsal(final=assignment, days_before=demo.rehearsal_days)
        self._add_to(passage, demo)
        for reference in demo.played:
            self._play_for(teacher, passage, assignment, reference)
        for name, attempts in demo.practised.items():
            practise(assignment.tasks.get(enrolment=people[name]), attempts)
            self.stdout.write(f"    {name}: {len(attempts)} attempts")
        for name, goes in demo.drilled.items():
            drill(assignment.tasks.get(enrolment=people[name]), goes)
        for name, waiting in demo.left.items():
            leave(assignment.tasks.get(enrolment=people[name]), waiting)
        for name, takes in demo.takes.items():
            task = assignment.tasks.get(enrolment=people[name])
            for take in takes:
                record(teacher, task, take)
                self.stdout.write(f"    {name}: {demo.title}")

    def _add_to(self, passage: Passage, demo: DemoAssignment) -> None:
        if demo.segments:
            desk.set_segments(passage=passage, version=passage.version, segments=demo.segments)
        part = read_part(passage.revision_id, passage.part)
        for entry in demo.added:
            note = next(n for n in part.notes if (part.bars[n.bar_index].number, n.onset_quarters) == (entry.bar, entry.beat))
            desk.set_note(passage=passage, version=passage.version, note_id=note.id, fields=entry.fields)

    def _play_for(self, teacher: Person, passage: Passage, assignment: Assignment, demo: DemoReference) -> None:
        """The teacher plays the passage as it comes: with rubato, a little under the tempo."""
        expectation = expectation_of_passage(passage)
        instrument = find_instrument(passage.part_entry["instrument"])
        style = Style(scatter_ms=8.0, expression=drawn("arches", np.random.default_rng(demo.seed)))
        made = simulate(expectation, instrument, assignment.tempo_qpm * demo.tempo_share, style=style, room="classroom", seed=demo.seed)
        body, name = wav_bytes(made.samples), "reference.wav"
        if demo.film:
            body, name = film_of(made.samples, _beats_s(expectation, made.truth)), "reference.webm"
        upload = TemporaryUploadedFile(name, "application/octet-stream", len(body), None)
        upload.write(body)
        upload.flush()
        kept = desk.add_reference(passage=passage, teacher=teacher, upload=upload, title=demo.title)
        # A film is moved into its place, not copied.
        upload.close()
        lay_reference(reference_id=kept.pk)

    def _exercise(self, teacher: Person, people: dict[str, Enrolment], demo: DemoExercise) -> None:
        passage = keep(teacher=teacher, kind=demo.kind, choices=demo.choices)
        fields = {
            "title": demo.title,
            "due_at": (timezone.localtime() + timedelta(days=demo.due_days)).replace(hour=20, minute=0, second=0, microsecond=0),
            "tempo": demo.tempo,
            "stage": "at_tempo",
            "band_percent": 5.0,
            "checklist": FULL_CHECKLIST,
            "step": "clap" if demo.kind == "rhythm" else "play",
        }
        own = [e for e in people.values() if e.group and e.group.name == demo.group]
        assign(teacher=teacher, passage=passage, enrolments=own, fields=fields)


def _beats_s(expectation: Expectation, truth: dict[str, Any]) -> list[float]:
    """When each beat is played: at its note, between notes evenly."""
    at = {note.id: note.onset_quarters for note in expectation.notes}
    played = sorted({at[n["id"]]: n["onset_s"] for n in truth["notes"] if n["id"] in at}.items())
    quarters, seconds = zip(*played, strict=True)
    beats = [
        bar.start_quarters + k * bar.beat_quarters
        for bar in expectation.bars
        for k in range(round(bar.length_quarters / bar.beat_quarters))
    ]
    return [float(np.interp(beat, quarters, seconds)) for beat in beats]
