"""Many takes like one that was really heard, with all that lies around them, for benches that need a school's rows."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.utils import timezone

from didactor.assignments.models import Assignment, Task
from didactor.library.models import Passage
from didactor.people.models import Enrolment
from didactor.review.models import Review
from didactor.takes.models import Analysis, SelfReview, Submission, Take


class Copies:
    """Assignments like ``assignment``, with a take like ``take`` for each student. ``whole``: with the take's full result, not only
    what lists show of it."""

    def __init__(self, *, assignment: Assignment, passage: Passage, take: Take, whole: bool = True) -> None:
        analysis = take.analyses.get()
        self.assignment, self.passage, self.take, self.now = assignment, passage, take, timezone.now()
        self.heard = {"engine_version": analysis.engine_version, "parameters": {}, "seconds": 1, "summary": analysis.summary}
        if whole:
            self.heard |= {"result": analysis.result, "moments": analysis.moments, "tone": analysis.tone}
        else:
            self.heard |= {"result": {}}

    def give(self, title: str, due: timedelta, to: list[Enrolment], *, waits: bool) -> Assignment:
        """An assignment due so long after now, its takes answered, or waiting at the desk."""
        take, now = self.take, self.now
        given = Assignment.objects.get(pk=self.assignment.pk)
        given.pk, given.due_at, given.title = None, now + due, title
        given.save()
        state = "handed_in" if waits else "passed"
        tasks = Task.objects.bulk_create([Task(assignment=given, enrolment=e, passage=self.passage, state=state) for e in to])
        sound: dict[str, Any] = {"original": take.original.name, "filename": "take.wav", "size": take.size, "sha256": take.sha256}
        sound |= {"playback": take.playback.name, "duration_s": take.duration_s, "peaks": take.peaks, "loudness_lufs": take.loudness_lufs}
        alike = {"number": 1, "state": "analysed", "basis": take.basis, **sound}
        takes = Take.objects.bulk_create([Take(task=task, recorded_by=task.enrolment.student, **alike) for task in tasks])
        Take.objects.filter(pk__in=[t.pk for t in takes]).update(created_at=now + due)
        Analysis.objects.bulk_create([Analysis(take=t, **self.heard) for t in takes])
        SelfReview.objects.bulk_create([SelfReview(take=t, work_on="bar 6", done_at=now) for t in takes])
        submissions = Submission.objects.bulk_create([Submission(take=t, answered_at=None if waits else now) for t in takes])
        if not waits:
            Review.objects.bulk_create([Review(submission=s, teacher=given.teacher, decision="passed", sent_at=now) for s in submissions])
        return given
