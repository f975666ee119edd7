from __future__ import annotations

import hashlib
import os
import shutil
import tempfile
import uuid
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from django.conf import settings
from django.core.files import File
from django.core.files.storage import default_storage
from django.db import transaction
from django.db.models import Max, QuerySet, Sum
from django.utils import timezone

from didactor.assignments.models import Assignment, Task, TaskState
from didactor.assignments.services import frozen_basis, move_task
from didactor.core.sound.recording import MAX_FILE_BYTES
from didactor.core.words import worded
from didactor.library.drawings import forget
from didactor.people.models import Person
from didactor.takes import pieces
from didactor.takes.bands import may_be_together
from didactor.takes.jobs import analyse_take, put_takes_together
from didactor.takes.models import OnTheWhole, SelfMark, SelfReview, Submission, Take, TakeState, Together, Upload
from didactor.web.store import AWAY, is_shared, on_disk

#: Recordings on their way at one time.
MOST_UNFINISHED = 6
#: How much more a student's own waiting takes push back their next one than the studio's do.
OWN_WEIGHT = 3


class TakeRefused(Exception):
    """A take, upload or submission that is not allowed; the words say why and what to do."""


def check_may_record(*, student: Person, task: Task, step: str = "") -> None:
    """Raise ``TakeRefused`` when this student may not send a take for this task now; steps on the way are not counted as takes."""
    if task.enrolment.student_id != student.pk:
        raise TakeRefused(worded("Only the student can record this."))
    if task.withdrawn_at is not None:
        raise TakeRefused(worded("Your teacher has taken this passage back: nothing more is expected here."))
    waits_for = task.waits_for
    if waits_for is not None:
        raise TakeRefused(waits_for.opens_next)
    if task.is_sealed:
        raise TakeRefused(worded("Start the preparation clock first."))
    if student.consent_missing:
        raise TakeRefused(worded("A guardian’s consent is needed before the first recording: on their own page, or by your teacher."))
    limit = task.assignment.takes_allowed
    on_the_way = step in task.assignment.before_steps
    if limit and not on_the_way and takes_spent(task) >= limit:
        raise TakeRefused(
            worded("All {limit} takes are used.", limit=limit) if limit > 1 else worded("This passage allows one take, and it is recorded.")
        )


def takes_used(task: Task) -> int:
    """The highest number given to a take."""
    return task.takes.aggregate(highest=Max("number"))["highest"] or 0


def takes_spent(task: Task) -> int:
    """How many takes count against the limit: those heard, also if deleted since, and those that are on their way to be heard.

    What could not be read or was unusable does not count, nor do steps on the way.
    """
    waiting = task.takes.filter(state__in=(TakeState.STORED, TakeState.ANALYSING), counted=False)
    return task.takes_spent + waiting.exclude(basis__step__in=task.assignment.before_steps).count()


def check_size(size: int) -> None:
    """Raise ``TakeRefused`` for an empty file or one above 1 GiB."""
    if size <= 0:
        raise TakeRefused(worded("The file is empty. Record again, or choose another file."))
    if size > MAX_FILE_BYTES:
        raise TakeRefused(worded("The file is larger than 1 GiB. Record the passage alone, or send sound without video."))


def _check_room(student: Person, length: int) -> None:
    """Raise ``TakeRefused`` when a student has too much begun and not finished, or kept in all; the oldest begun one gives way first."""
    begun = Upload.objects.filter(owner=student, take=None).order_by("created_at")
    for oldest in begun[: max(0, begun.count() - MOST_UNFINISHED + 1)]:
        pieces.discard(oldest)
        oldest.delete()
    kept = Take.objects.exclude(original="")
    own = _bytes(kept.filter(task__enrolment__student=student), "size") + _bytes(Upload.objects.filter(owner=student, take=None), "length")
    if own + length > settings.STUDENT_QUOTA_BYTES:
        raise TakeRefused(worded("There is no more room for your recordings. Delete takes you do not need, or ask your teacher."))
    on_their_way = Upload.objects.filter(owner__studio=student.studio, take=None)
    everybody = _bytes(kept.filter(task__assignment__studio=student.studio), "size") + _bytes(on_their_way, "length")
    if everybody + length > settings.STUDIO_QUOTA_BYTES:
        raise TakeRefused(
            worded("There is no more room for your studio’s recordings. Your recording waits on this device; tell your teacher.")
        )


def _bytes(rows: QuerySet[Any], column: str) -> int:
    return rows.aggregate(all=Sum(column))["all"] or 0


def begin_upload(
    *,
    student: Person,
    task: Task,
    filename: str,
    length: int,
    origin: str = "file",
    clicks_s: Sequence[float] = (),
    step: str = "",
    own_tempo: float | None = None,
    backing: dict[str, float] | None = None,
    late_s: float | None = None,
) -> Upload:
    """Room for a recording that comes in pieces; ``clicks_s``: when the recorder clicked in it, ``late_s``: how late the device records
    what it plays. Raises ``TakeRefused``.
    """
    check_may_record(student=student, task=task, step=step)
    check_size(length)
    _check_room(student, length)
    upload = Upload.objects.create(
        task=task,
        owner=student,
        filename=filename[:255] or "take",
        length=length,
        origin=origin[:10],
        clicks_s=list(clicks_s),
        step=step[:20],
        own_tempo=own_tempo,
        backing=backing,
        late_s=late_s,
    )
    pieces.begin(upload)
    return upload


class StorageFull(Exception):
    """The disk is full, or the store away; nothing of what arrived is lost, and it can be sent on later."""


def append_to_upload(*, upload_id: Any, owner: Person, offset: int, body: IO[bytes]) -> Upload:
    """Write the next piece of an upload. With the last piece it becomes a take.

    The piece is received before anything is locked: somebody's slow network holds up nobody else.

    Raises:
        Upload.DoesNotExist: not this person's.
        ValueError: the piece does not begin where the last one ended.
        TakeRefused: more bytes than announced, or no longer allowed.
        StorageFull: there is no room for it.
    """
    waiting = Upload.objects.get(pk=upload_id, owner=owner)
    if waiting.take_id is not None:
        return waiting
    if offset != waiting.offset:
        raise ValueError(f"the upload stands at {waiting.offset}")
    with tempfile.TemporaryFile(dir=pieces.room()) as piece:
        _receive(body, piece, waiting.length - offset)
        return _append(upload_id, owner, offset, piece)


def _receive(body: IO[bytes], piece: IO[bytes], most: int) -> None:
    """What arrives of a piece; a connection that breaks keeps what came, and the rest can follow later."""
    arrived = 0
    while True:
        try:
            chunk = body.read(256 * 1024)
        except OSError:
            break
        if not chunk:
            break
        arrived += len(chunk)
        if arrived > most:
            raise TakeRefused(worded("More arrived than was announced. Send the recording again."))
        try:
            piece.write(chunk)
        except OSError as error:
            raise StorageFull from error
    piece.seek(0)


@transaction.atomic
def _append(upload_id: Any, owner: Person, offset: int, piece: IO[bytes]) -> Upload:
    upload = Upload.objects.select_for_update().select_related("task__assignment", "task__enrolment").get(pk=upload_id, owner=owner)
    if upload.take_id is not None:
        return upload
    if offset != upload.offset:
        raise ValueError(f"the upload stands at {upload.offset}")
    try:
        upload.offset = pieces.add(upload, piece)
        if upload.offset == upload.length:
            with pieces.whole(upload) as source:
                upload.take = receive_take(
                    student=owner,
                    task=upload.task,
                    source=source,
                    filename=upload.filename,
                    clicks_s=upload.clicks_s,
                    step=upload.step,
                    own_tempo=upload.own_tempo,
                    backing=upload.backing,
                    late_s=upload.late_s,
                )
            transaction.on_commit(lambda: pieces.discard(upload))
    except AWAY as error:
        raise StorageFull from error
    upload.save(update_fields=["offset", "take"])
    return upload


@transaction.atomic
def receive_take(
    *,
    student: Person,
    task: Task,
    source: IO[bytes],
    filename: str,
    clicks_s: Sequence[float] = (),
    step: str = "",
    own_tempo: float | None = None,
    backing: dict[str, float] | None = None,
    late_s: float | None = None,
) -> Take:
    """Store a recording untouched, under the name of its hash, and put its hearing into the queue.

    The same file sent twice for one task is one take; ``own_tempo`` is what the student chose, beats per minute, where the stage leaves
    the choice; ``backing`` names the accompaniment that was played. Raises ``TakeRefused``.
    """
    task = Task.objects.select_for_update().get(pk=task.pk)
    size = source.seek(0, 2)
    check_size(size)
    source.seek(0)
    digest = hashlib.file_digest(source, "sha256").hexdigest()  # type: ignore[arg-type]
    twin = task.takes.filter(sha256=digest).first()
    if twin is not None:
        return twin
    check_may_record(student=student, task=task, step=step)
    basis = frozen_basis(task, step, own_tempo)
    basis["targets"]["clicks_s"] = list(clicks_s)
    basis["targets"]["late_s"] = late_s
    basis["backing"] = backing
    take = Take.objects.create(
        task=task,
        number=takes_used(task) + 1,
        original=store(source, digest),
        filename=filename[:255],
        size=size,
        sha256=digest,
        basis=basis,
        recorded_by=student,
    )
    if task.state not in (TaskState.HANDED_IN, TaskState.PASSED):  # what comes after is practice
        move_task(task, TaskState.IN_WORK)
    analyse_take.configure(priority=_turn(task)).defer(take_id=take.pk)
    return take


def _turn(task: Task) -> int:
    """The priority of a take's hearing: those of a student, and of a studio, who have many waiting come behind the others' first ones."""
    waiting = Take.objects.filter(state__in=(TakeState.STORED, TakeState.ANALYSING))
    of_studio = waiting.filter(task__assignment__studio=task.assignment.studio_id).count()
    of_student = waiting.filter(task__enrolment__student=task.enrolment.student_id).count()
    return -(of_studio + OWN_WEIGHT * of_student)


def store(source: IO[bytes], digest: str) -> str:
    """Copy into the store by content hash; in a folder written beside first, so that a half-copied file never has its name."""
    name = f"takes/{digest[:2]}/{digest}"
    if is_shared():
        if not default_storage.exists(name):
            source.seek(0)
            default_storage.save(name, File(source))
        return name
    target = Path(settings.MEDIA_ROOT) / name
    if not target.exists():
        target.parent.mkdir(parents=True, exist_ok=True)
        beside = target.with_suffix(f".{uuid.uuid4().hex[:8]}.part")
        source.seek(0)
        with open(os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as sink:
            shutil.copyfileobj(source, sink, 1024 * 1024)
        on_disk(beside)
        beside.rename(target)
        on_disk(target)
    return name


def delete_take(*, student: Person, take: Take) -> None:
    """Delete for good a take that was not submitted: rows, recording, playback copy and drawings.

    Raises ``TakeRefused`` when it was submitted.
    """
    with transaction.atomic():
        take = Take.objects.select_for_update(of=("self",)).get(pk=take.pk)
        if Submission.objects.filter(take=take).exists():
            raise TakeRefused(worded("A submitted take cannot be deleted here. Ask your teacher."))
        task = take.task
        if task.assignment.first_kept and take.on_the_way is None and not task.takes.filter(number__lt=take.number).exists():
            raise TakeRefused(
                worded("The first take is kept: what you gain since then is measured by it. Record as many more as you like.")
            )
        erase_take(take)
        if not task.takes.exists() and task.state == TaskState.IN_WORK:
            move_task(task, TaskState.OPEN)


@transaction.atomic
def erase_take(take: Take) -> None:
    """A take and all that came of it, gone for good: rows, the recording (unless another has the very same), its copies, its drawings."""
    take = Take.objects.select_for_update(of=("self",)).get(pk=take.pk)
    original, copies = take.original.name, [name for name in (take.playback.name, take.picture.name) if name]
    drawn = [f"heard:{pk}" for pk in take.analyses.values_list("pk", flat=True)]
    Upload.objects.filter(take=take).delete()
    # What it was put together with others into has its sound in it.
    for made in Together.objects.filter(takes=take):
        copies += [str(made.sound.name)] if made.sound else []
        made.delete()
    Submission.objects.filter(take=take).delete()
    take.delete()
    shared = not original or Take.objects.filter(original=original).exists()

    def remove_files() -> None:
        if not shared:
            default_storage.delete(str(original))
        for name in copies:
            default_storage.delete(name)
        for key in drawn:
            forget(key)

    transaction.on_commit(remove_files)


@dataclass(frozen=True, kw_only=True)
class OwnMark:
    """One line of a student's checklist as sent by the form."""

    category: str
    verdict: str
    bar: str = ""
    text: str = ""


@transaction.atomic
def review_own_take(*, take: Take, marks: Iterable[OwnMark], work_on: str, easy: str = "", as_meant: str = "") -> SelfReview:
    """Keep a student's own marks and answers; sent again, they replace the earlier ones. Raises ``TakeRefused`` once submitted."""
    if take.is_submitted:
        raise TakeRefused(worded("This take is submitted; its marks stay as they were sent."))
    review, _ = SelfReview.objects.get_or_create(take=take)
    review.marks.all().delete()
    SelfMark.objects.bulk_create(
        SelfMark(self_review=review, category=m.category, verdict=m.verdict, bar=m.bar[:10], text=m.text[:300]) for m in marks
    )
    review.easy, review.as_meant = (word if word in OnTheWhole.values else "" for word in (easy, as_meant))
    review.work_on, review.done_at = work_on.strip()[:300], timezone.now()
    review.save()
    return review


def heard_through(take: Take) -> None:
    """The student has played a take back to its end. Once is enough."""
    Take.objects.filter(pk=take.pk, heard_through_at=None).update(heard_through_at=timezone.now())


@transaction.atomic
def submit_take(*, take: Take) -> Submission:
    """Send a take to the teacher. Twice is once. Raises ``TakeRefused``."""
    task = Task.objects.select_for_update().get(pk=take.task_id)
    existing = Submission.objects.filter(take=take).first()
    if existing is not None:
        return existing
    if task.assignment.own_grade is not None:
        raise TakeRefused(worded("This line is your own: nothing of it is handed in."))
    if take.on_the_way is not None:
        raise TakeRefused(worded("This was a step on the way. Hand in a take of: {step_title}.", step_title=task.assignment.step_title))
    if task.state in (TaskState.HANDED_IN, TaskState.PASSED):
        raise TakeRefused(worded("Another take of this passage is already with your teacher."))
    if not take.is_settled:
        raise TakeRefused(worded("This take is still being heard. Wait a moment, then submit."))
    if take.state == TakeState.UNUSABLE:
        raise TakeRefused(worded("Nothing can be judged in this take. Record again; the page says what to change."))
    if task.assignment.listen_first and not SelfReview.objects.filter(take=take, done_at__isnull=False).exists():
        raise TakeRefused(worded("Listen to your take and mark the checklist first."))
    if task.assignment.to_the_end and take.heard_through_at is None:
        raise TakeRefused(worded("Play your take back to its end first; then it can be handed in."))
    submission = Submission.objects.create(take=take)
    move_task(task, TaskState.HANDED_IN)
    return submission


@transaction.atomic
def begin_together(*, assignment: Assignment, teacher: Person, takes: Collection[int], tempo: float) -> Together:
    """Choose takes that were handed in and heard; who does not agree is left out. They are put together by a job.

    Raises ``TogetherRefused`` for fewer than two that may be in it, or too many.
    """
    chosen = may_be_together(assignment=assignment, takes=takes)
    made = Together.objects.create(assignment=assignment, made_by=teacher, tempo=tempo)
    made.takes.set(chosen)
    put_takes_together.defer(together_id=made.pk)
    return made
