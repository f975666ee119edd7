from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from typing import IO, Any, cast

from django.core.files.base import ContentFile
from django.core.files.storage import default_storage
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.db.models import Exists, F, OuterRef, QuerySet
from django.utils import timezone

from didactor.assignments.models import Assignment, Series, Task, TaskState, Template, WeekNote
from didactor.core.errors import AudioError, PassageError
from didactor.core.planning.tempi import to_begin_with
from didactor.core.score.expected import Expectation
from didactor.core.score.roadmap import bars_between
from didactor.core.sound.recording import open_with_copy
from didactor.core.steps import ear_of, goal, steps_to
from didactor.core.units import beat_unit_of, beats_to_quarters_per_minute
from didactor.core.words import worded
from didactor.library.arrangements import LEAVE_OUT, part_for, written_for
from didactor.library.desk import choices_for
from didactor.library.jobs import engrave_parts
from didactor.library.models import Engraving, Passage
from didactor.library.notation import ENGRAVER, expectation_of, read_part
from didactor.library.said import forget, opened
from didactor.library.services import cut_passage
from didactor.library.sounds import want_accompaniment, want_model_sounds
from didactor.people.models import Enrolment, Group, Person

#: A few words, said or played, are no longer than this.
MOST_REPLY_BYTES = 50 * 1024 * 1024
#: Which states may follow which. A task that was answered may be worked on again; a passed one stays passed.
_FOLLOWS = {
    TaskState.OPEN: {TaskState.IN_WORK, TaskState.HANDED_IN},
    TaskState.IN_WORK: {TaskState.OPEN, TaskState.HANDED_IN},
    TaskState.HANDED_IN: {TaskState.ANSWERED, TaskState.PASSED, TaskState.IN_WORK},
    TaskState.ANSWERED: {TaskState.IN_WORK, TaskState.HANDED_IN, TaskState.PASSED},
    TaskState.PASSED: {TaskState.ANSWERED},
}


def usual_beat(passage: Passage) -> tuple[str, int]:
    """The beat that a passage is counted in, and how many of them are counted off: a bar of them; two where a bar is too short."""
    first = bars_between(read_part(passage.revision_id, passage.part), passage.bars)[0]
    beats = round(4.0 * first.beats / first.beat_type / first.beat_quarters)  # of a whole bar: an upbeat is shorter
    return beat_unit_of(first.beat_quarters), min(16, beats if beats > 2 else 2 * beats)


@transaction.atomic
def assign(
    *, teacher: Person, passage: Passage, enrolments: Iterable[Enrolment], fields: dict[str, Any], parts: Mapping[int, str] | None = None
) -> Assignment:
    """Give a passage to students: one task each in their own part, models to practise with in the queue.

    Args:
        parts: by enrolment, which offer of ``part_for`` was chosen, or ``LEAVE_OUT``; the best one for the rest.

    Raises:
        PassageError: nobody chosen, or targets that make no sense.
    """
    parts = parts or {}
    chosen = [e for e in enrolments if parts.get(e.pk) != LEAVE_OUT]
    if not chosen:
        raise PassageError("assignment.nobody", worded("Choose at least one student."))
    fields = _fitting(passage, _with_series(teacher, fields))
    assignment = Assignment.objects.create(studio=teacher.studio, teacher=teacher, passage=passage, **fields)
    _give(assignment, chosen, parts)
    return assignment


@transaction.atomic
def _give(assignment: Assignment, enrolments: Iterable[Enrolment], parts: Mapping[int, str]) -> None:
    passage = assignment.passage
    waiting = set()
    for enrolment in enrolments:
        part = written_for(passage=passage, instrument=enrolment.instrument, offer=_offer_for(passage, enrolment, parts.get(enrolment.pk)))
        task = Task.objects.create(assignment=assignment, enrolment=enrolment, passage=part)
        _want_models(task)
        waiting.add(task.passage_id)
    waiting -= {passage.pk}
    if waiting:
        engrave_parts.defer(passage_ids=sorted(waiting))


@transaction.atomic
def give_to(*, assignment: Assignment, enrolments: Iterable[Enrolment]) -> int:
    """Give an assignment to more students, or again to those it was withdrawn from. Returns how many have it now who had not.

    Raises:
        PassageError: a part that cannot be written for them.
    """
    locked = Assignment.objects.select_for_update(of=("self",)).select_related("passage__revision__piece").get(pk=assignment.pk)
    chosen = {enrolment.pk: enrolment for enrolment in enrolments}
    again = locked.tasks.filter(enrolment__in=chosen, withdrawn_at__isnull=False).update(withdrawn_at=None)
    have_it = set(locked.tasks.values_list("enrolment_id", flat=True))
    fresh = [enrolment for pk, enrolment in chosen.items() if pk not in have_it]
    _give(locked, fresh, {})
    rehearsal = Assignment.objects.filter(rehearses=locked).first()
    if rehearsal is not None:
        give_to(assignment=rehearsal, enrolments=chosen.values())
    return again + len(fresh)


@transaction.atomic
def withdraw(tasks: QuerySet[Task]) -> int:
    """Expect nothing more of these tasks. What was handed in stays, with its answer; ``give_to`` undoes it. Returns how many."""
    whose = tasks.filter(assignment=OuterRef("assignment__rehearses"), enrolment=OuterRef("enrolment"))
    rehearsals = list(Task.objects.filter(Exists(whose)).values_list("pk", flat=True))
    count = tasks.filter(withdrawn_at=None).exclude(state=TaskState.PASSED).update(withdrawn_at=timezone.now())
    Task.objects.filter(pk__in=rehearsals, withdrawn_at=None).exclude(state=TaskState.PASSED).update(withdrawn_at=timezone.now())
    return count


def open_for(enrolment: Enrolment) -> QuerySet[Assignment]:
    """What others of the same group are still working on, and this student does not have."""
    if enrolment.group_id is None:
        return Assignment.objects.none()
    group = Task.objects.filter(enrolment__group=enrolment.group_id, withdrawn_at=None, state__in=(TaskState.OPEN, TaskState.IN_WORK))
    return Assignment.objects.given().filter(due_at__gt=timezone.now(), tasks__in=group).exclude(tasks__enrolment=enrolment).distinct()


@dataclass(frozen=True, kw_only=True)
class PartsWritten:
    """How far the parts of an assignment are engraved."""

    done: int
    of: int

    @property
    def is_done(self) -> bool:
        return self.done >= self.of


def parts_written(assignment: Assignment) -> PartsWritten:
    """Distinct parts among an assignment's tasks, and how many of them are drawn already."""
    passages = Passage.objects.filter(tasks__assignment=assignment).distinct()
    drawn = Engraving.objects.filter(
        revision=OuterRef("revision"), part=OuterRef("part"), bars=OuterRef("bars"), version=ENGRAVER, layout="desk"
    )
    return PartsWritten(done=passages.filter(Exists(drawn)).count(), of=passages.count())


def _offer_for(passage: Passage, enrolment: Enrolment, wanted: str | None) -> str:
    """What was chosen, if it is on offer; else the best offer."""
    part = part_for(passage=passage, instrument=enrolment.instrument, level=enrolment.level)
    found = part.offer(wanted) if wanted else None
    return (found or part.offers[0]).value


def move_task(task: Task, state: TaskState) -> None:
    """Change a task's state along the allowed ways; the same state again is no change."""
    if task.state == state:
        return
    if state not in _FOLLOWS[TaskState(task.state)]:
        raise ValueError(f"a task cannot go from {task.state} to {state}")
    task.state = state
    task.save(update_fields=["state"])


class Overtaken(Exception):
    """Somebody else changed the assignment meanwhile."""


def _fitting(passage: Passage, fields: dict[str, Any]) -> dict[str, Any]:
    """The fields with a goal that the passage allows: without notation only the pulse, or listening.

    Raises:
        PassageError: a step that the passage cannot have, as chords to strum where none are written; bars to practise that are not in it.
    """
    piece = passage.revision.piece
    if not piece.has_notation and fields.get("step") != "listen":
        return {**fields, "step": "listen" if piece.is_recording else "pulse"}
    if bars := (fields.get("crossing") or {}).get("bars"):
        part = read_part(passage.revision_id, passage.part)
        inside = {bar.index for bar in bars_between(part, passage.bars)}
        if not {bar.index for bar in bars_between(part, bars)} <= inside:
            raise PassageError(
                "assignment.crossing",
                worded(
                    "Practice “of bars {bars}” is not inside the passage, which has {bars_in_words}.",
                    bars=bars,
                    bars_in_words=passage.bars_in_words,
                ),
            )
    steps = steps_to(fields.get("before_steps") or [], fields.get("step") or "play")
    expected = expectation_of(revision_id=passage.revision_id, part=passage.part, bars=passage.bars, order=passage.order)
    for step in steps:
        refusal = ear_of(step.ear).refuses(expected) if step.ear else ""
        if refusal:
            raise PassageError("assignment.step", worded("{step}: {refusal}", step=step.title, refusal=refusal))
    hands = {step.staff for step in steps if step.staff}
    if hands:
        _check_hands(expected, hands)
    return fields


def _check_hands(expected: Expectation, hands: set[int]) -> None:
    staves = {note.staff for note in expected.notes}
    if len(staves) < 2:
        raise PassageError("assignment.one_staff", worded("These bars are written on one staff, so there is no hand to play alone."))
    for staff in hands - staves:
        raise PassageError(
            "assignment.no_hand",
            worded("The right hand has nothing to play in these bars.")
            if staff == 1
            else worded("The left hand has nothing to play in these bars."),
        )


def _with_series(teacher: Person, fields: dict[str, Any]) -> dict[str, Any]:
    """The fields with the series of that name, made when it is new."""
    title = fields.get("series") or ""
    if not isinstance(title, str):
        return fields
    series = Series.objects.get_or_create(studio=teacher.studio, title=title.strip())[0] if title.strip() else None
    return {**fields, "series": series}


@transaction.atomic
def change_assignment(*, assignment: Assignment, teacher: Person, version: int, fields: dict[str, Any]) -> None:
    """Change targets or words of an assignment. Takes that came in keep what they were judged against.

    Raises:
        Overtaken: it is not at this version any more.
        PassageError: targets that make no sense.
    """
    fields = _fitting(assignment.passage, _with_series(teacher, fields))
    moved = fields["due_at"] - assignment.due_at if "due_at" in fields else timedelta()
    changed = Assignment.objects.filter(pk=assignment.pk, version=version).update(version=F("version") + 1, **fields)
    if not changed:
        raise Overtaken
    assignment.refresh_from_db()
    # What hangs before it goes with it.
    tempi = {name: getattr(assignment, name) for name in ("beat_unit", "tempo", "tempo_to", "fast_tempo")}
    Assignment.objects.filter(rehearses=assignment).update(due_at=F("due_at") + moved, version=F("version") + 1, **tempi)
    for task in assignment.tasks.select_related("passage__revision__piece", "enrolment", "assignment"):
        _want_models(task)


@transaction.atomic
def set_exception(*, task: Task, tempo: float | None, due_at: datetime | None) -> None:
    """A tempo and a date for one student alone; None for what all have. Raises ``PassageError`` for a tempo nobody plays."""
    task.tempo, task.own_due_at = tempo, due_at
    _want_models(task)
    task.save(update_fields=["tempo", "own_due_at"])


def ask_at_tempo(*, task: Task, tempo: float) -> None:
    """From now on this student is asked for another tempo: stand, count-off and models are at it. Raises ``PassageError``."""
    set_exception(task=task, tempo=None if tempo == task.assignment.tempo else tempo, due_at=task.own_due_at)


def _want_models(task: Task) -> None:
    """What a student hears first when sitting down to play is made beforehand: the model where one begins, and where it is to lead."""
    if task.passage.revision.piece.has_notation:
        assignment, asked_qpm = task.assignment, task.targets.tempo_qpm
        begun = to_begin_with(task.asked_tempo, assignment.ladder, []) if task.tempo_is_free else round(task.asked_tempo)
        tempi = {round(task.asked_tempo), begun, task.fast_tempo or begun}
        qpm = [beats_to_quarters_per_minute(tempo, assignment.beat_unit) for tempo in sorted(tempi)]
        want_model_sounds(passage=task.passage, instrument=task.enrolment.instrument, tempi_qpm=qpm)
        want_accompaniment(passage=task.passage, tempo_qpm=asked_qpm, count_off=assignment.count_off)


#: What of an assignment a way to it takes over; a way's own due date is so many days away.
_TAKEN_OVER = (
    "beat_unit",
    "band_percent",
    "count_off",
    "checklist",
    "own_rows",
    "own_row_figures",
    "with_pictures",
    "listen_first",
    "students_see",
    "metronome",
    "place",
)
WAY_DAYS = 4


@transaction.atomic
def give_way_to(
    *, task: Task, teacher: Person, bars: str = "", step: str = "", tempo: float | None = None, minutes: int | None = None
) -> Assignment:
    """A smaller thing first, for one student: some bars, or another step on them. It stands before the task, which stays.

    Raises ``PassageError`` for bars, a step or a tempo that make no sense.
    """
    whole = task.assignment
    root = whole.passage
    passage = cut_passage(teacher=teacher, revision=root.revision, part=root.part, bars=bars) if bars and bars != root.bars else root
    what = step or whole.step
    title = worded("{title}, bars {bars}", title=whole.title, bars=bars.replace("-", "–")) if bars else whole.title
    fields = {name: getattr(whole, name) for name in _TAKEN_OVER}
    fields |= {
        "title": (f"{title}: {goal(what).title.lower()}" if what != whole.step else title)[:200],
        "due_at": timezone.now() + timedelta(days=WAY_DAYS),
        "tempo": tempo or task.asked_tempo,
        "stage": "steady" if whole.stage in ("sight_reading", "rehearsal", "final") else whole.stage,
        "step": what,
        "minutes": minutes or whole.minutes,
        "leads_to": task,
    }
    return assign(teacher=teacher, passage=passage, enrolments=[task.enrolment], fields=fields)


def more_time(*, task: Task, days: int) -> None:
    """This student has so many days from now, or from the date if that is later. Raises ``PassageError``."""
    set_exception(task=task, tempo=task.tempo, due_at=max(task.due_at, timezone.now()) + timedelta(days=days))


def keep_template(*, teacher: Person, title: str, fields: Mapping[str, Any]) -> Template:
    """Keep targets and checklist under a name; the same name again replaces them."""
    kept, _ = Template.objects.update_or_create(studio=teacher.studio, title=title.strip()[:80], defaults={"fields": dict(fields)})
    return kept


def write_week_note(*, teacher: Person, group: Group | None, day: date, text: str, said: UploadedFile | None = None) -> WeekNote | None:
    """Words to a group for the week of a day, or what was said or filmed; written again they replace the earlier ones, and with neither
    they are gone (None).

    Raises:
        AudioError: the recording is none, or too large. Nothing is changed then.
    """
    file = opened(said) if said is not None else None
    place: dict[str, Any] = {"studio": teacher.studio, "group": group, "monday": day - timedelta(days=day.weekday())}
    with transaction.atomic():
        for former in WeekNote.objects.select_for_update(of=("self",)).filter(**place):
            forget(former.said)
        if not text.strip() and file is None:
            WeekNote.objects.filter(**place).delete()
            return None
        return WeekNote.objects.update_or_create(**place, defaults={"text": text.strip(), "said": file or "", "written_by": teacher})[0]


def set_order(*, series: Series, in_order: bool) -> None:
    """Whether each of a series opens when the one before it is passed. What is handed in already stays."""
    series.in_order = in_order
    series.save(update_fields=["in_order"])


def open_sealed(task: Task) -> None:
    """The student starts the preparation clock. It runs once."""
    Task.objects.filter(pk=task.pk, opened_at=None).update(opened_at=timezone.now())


def tick_step(*, task: Task, slug: str, done: bool) -> None:
    """The student says that a step which is not recorded is done, or takes it back."""
    steps = [s for s in task.steps_done if s != slug]
    task.steps_done = [*steps, slug] if done else steps
    task.save(update_fields=["steps_done"])


@transaction.atomic
def answer_question(*, task: Task, text: str) -> None:
    """The student's answer to a question about what they heard. Raises ``PassageError`` for an empty one, or one sent already."""
    task = Task.objects.select_for_update(of=("self",)).select_related("assignment", "enrolment__student").get(pk=task.pk)
    if not task.assignment.is_listening:
        raise PassageError("answer.not_asked", worded("Nothing is asked in words here: record the passage."))
    if task.is_sealed:
        raise PassageError("answer.sealed", worded("Start the preparation clock first."))
    if not text.strip():
        raise PassageError("answer.empty", worded("Write a few words first."))
    if task.state in (TaskState.HANDED_IN, TaskState.PASSED):
        raise PassageError("answer.sent", worded("Your answer is with your teacher already."))
    task.answer, task.answered_at = text.strip()[:4000], timezone.now()
    task.save(update_fields=["answer", "answered_at"])
    move_task(task, TaskState.HANDED_IN)


def decide_answer(*, task: Task, passed: bool, reply: str = "", recording: UploadedFile | None = None) -> bool:
    """The teacher takes an answer in words, or asks for it once more, and says or plays why. False where it was decided already.

    Raises:
        AudioError: the recording is none, or too large. Nothing is decided then.
    """
    # Opened before anything is locked: that takes as long as the recording is.
    body = _reply_sound(recording) if recording is not None else None
    with transaction.atomic():
        task = Task.objects.select_for_update().get(pk=task.pk)
        if task.state != TaskState.HANDED_IN or task.answered_at is None:
            return False
        forget_reply_sound(task)
        task.reply = reply.strip()[:4000]
        # Asked for once more it is open again: in words, or by playing.
        task.answered_at = task.answered_at if passed else None
        if body is not None:
            task.reply_sound.save(f"{task.pk}.mp4", body, save=False)
        task.save(update_fields=["reply", "reply_sound", "answered_at"])
        move_task(task, TaskState.PASSED if passed else TaskState.ANSWERED)
    return True


def _reply_sound(recording: UploadedFile) -> ContentFile:
    """A copy that every browser plays."""
    if recording.size is None or recording.size > MOST_REPLY_BYTES:
        raise AudioError(
            "audio.too_large", worded("The recording is larger than 50 MB. A minute or two is enough: record it again, shorter.")
        )
    _, copy = open_with_copy(cast("IO[bytes]", recording.file))
    return ContentFile(copy.body)


def forget_reply_sound(task: Task) -> None:
    """Remove what the teacher said or played back, with the next commit."""
    if task.reply_sound:
        old, storage = str(task.reply_sound.name), task.reply_sound.storage
        task.reply_sound = ""
        transaction.on_commit(lambda: storage.delete(old))


def frozen_basis(task: Task, step: str = "", own_tempo: float | None = None) -> dict[str, Any]:
    """What a take is judged against, as it stands now: goes into the take and does not change with the assignment.

    Args:
        step: one on the way; the goal for anything else.
        own_tempo: the student's own choice, beats per minute; it counts only where the stage leaves it, or for the fast tier.
    """
    assignment, passage = task.assignment, task.passage
    chosen = next((s for s in task.steps if s.slug == step), goal(assignment.step))
    targets = replace(task.targets_of_step(chosen), **choices_for(passage))
    own = own_tempo if task.tempo_is_free or own_tempo == task.fast_tempo else None
    if own is not None:
        own_qpm = beats_to_quarters_per_minute(own, assignment.beat_unit)
        # The fast tier is a target like the first one; any other choice is within what the stage leaves.
        fast = own == task.fast_tempo
        targets = replace(targets, tempo_qpm=own_qpm, tempo_to_qpm=None) if fast else targets.at_own_tempo(own_qpm)
    return {
        "revision_id": passage.revision_id,
        "passage_id": passage.pk,
        "part": passage.part,
        "bars": passage.bars,
        "order": passage.order,
        "beat_unit": assignment.beat_unit,
        "step": chosen.slug,
        "judged": chosen.ear is not None,
        "own_tempo": own,
        "targets": targets.to_json(),
    }


def set_spoken(*, assignment: Assignment, upload: UploadedFile | None) -> None:
    """Keep what a teacher says to those who do not read yet, as a copy that every browser plays; None takes it back.

    Raises:
        AudioError: no recording, or one that is too large.
    """
    if upload is not None and (upload.size or 0) > MOST_REPLY_BYTES:
        raise AudioError("audio.too_large", worded("That is too long for a few words. Keep it under five minutes."))
    copy = open_with_copy(cast("IO[bytes]", upload.file))[1] if upload is not None else None
    old = assignment.spoken.name
    assignment.spoken = ContentFile(copy.body, name="spoken.mp4") if copy else ""
    assignment.save(update_fields=["spoken"])
    if old:
        default_storage.delete(old)
