"""The addresses of things: which pages there are of a piece, a passage, a task, a take …, each with its arguments."""

from __future__ import annotations

from typing import Any

from django.urls import URLPattern, URLResolver

from didactor.assignments.models import Assignment, Task
from didactor.library.models import Passage, Piece
from didactor.people.models import Enrolment
from didactor.takes.models import Submission, Take

Addresses = dict[str, list[Any]]


def names(resolver: URLResolver, prefix: str = "") -> list[str]:
    """Every address of the site."""
    found = []
    for entry in resolver.url_patterns:
        if isinstance(entry, URLPattern):
            found.append(f"{prefix}{entry.name}")
        else:
            found += names(entry, f"{entry.app_name}:" if entry.app_name else prefix)
    return found


def _all(argument: Any, *names: str) -> Addresses:
    return {name: [argument] for name in names}


def of_piece(piece: Piece) -> Addresses:
    app = ("piece", "details", "correct_bar", "new_version", "put_away", "original", "photo")
    return _all(piece.pk, *(f"library:{name}" for name in app))


def of_passage(passage: Passage) -> Addresses:
    app = ("", "_note", "_pins", "_segments", "_model", "_accompaniment", "_models_fragment")
    return _all(passage.pk, *(f"library:passage{name}" for name in app), "library:add_reference")


def of_assignment(assignment: Assignment) -> Addresses:
    app = ("withdraw", "give", "spoken", "change", "progress_fragment")
    return _all(assignment.pk, "assignment", "class_sheet", "progress:make_together", *(f"assignments:{name}" for name in app))


def of_task(task: Task) -> Addresses:
    stand = (
        "open_sealed",
        "tick",
        "answer",
        "reply_sound",
        "play",
        "sounds",
        "sound_check",
        "cards",
        "find_out",
        "found",
        "beside",
        "pair",
    )
    practice = ("crossing", "state", "begin", "by_hand", "take_back", "remedy", "habit", "model", "drills", "touched")
    return {
        **_all(task.pk, "task", "study", "review:decide_words", "review:hear_live", "stand:tuning", "stand:spoken", "stand:agree"),
        **_all(task.pk, *(f"assignments:{name}" for name in ("part", "exception", "decide_answer", "withdraw_task"))),
        **_all(task.pk, *(f"stand:{name}" for name in (*stand, "upload_file")), *(f"practice:{name}" for name in practice)),
        "stand:pair_sound": [task.pk, 0],
    }


def of_student(enrolment: Enrolment) -> Addresses:
    people = ("student", "new_card", "pictures_of_student", "withdraw_consent", "leave")
    progress = ("term_paper", "weeks", "takes_file", "erase_student")
    return {
        **_all(enrolment.student_id, "copy_of", "archive:copy_file", "record", "letters_of"),
        **_all(enrolment.student_id, *(f"people:{name}" for name in people), *(f"progress:{name}" for name in progress)),
        **_all(enrolment.group_id, "group", "progress:grid_file", "progress:marks_file"),
        **_all(enrolment.pk, "practice:reading", "practice:new_line", "practice:warm_up"),
    }


def of_take(take: Take) -> Addresses:
    stand = ("take", "status_fragment", "mark", "through", "submit", "delete")
    return {
        **_all(take.pk, "take", "answer_paper", "progress:erase_take", *(f"stand:{name}" for name in stand)),
        **_all(take.pk, *(f"takes:{name}" for name in ("sound", "picture", "original"))),
        **{f"takes:{name}": [take.pk, 2] for name in ("why", "why_played", "why_written")},
    }


def of_submission(submission: Submission) -> Addresses:
    app = ("detail", "alongside", "add_remark", "keep_all", "save_draft", "send", "live_recording", "drop_live")
    return _all(submission.pk, *(f"review:{name}" for name in app))
