"""What pages show of tasks and takes: plain values for templates, in few queries."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from django.core.cache import cache
from django.db.models import Prefetch
from django.urls import reverse
from django.utils import timezone
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString

from didactor.assignments.models import CATEGORY_TITLES, StudentSees, Task
from didactor.core.formats.lanes import View, plain_score, score_with_lanes
from didactor.core.score.engraving import ACROSS, BESIDE
from didactor.core.units import BEAT_UNIT_QUARTERS
from didactor.library.desk import has_additions, numbered_remarks, pinned_drawings
from didactor.library.models import Engraving, ModelSound, Passage
from didactor.library.services import (
    ENGRAVER,
    accompaniment_of,
    engravings_of,
    expectation_of,
    intro_quarters,
    model_sounds,
)
from didactor.people.models import Person
from didactor.takes.models import Analysis, Take, TakeState
from didactor.takes.services import TakeRefused, check_may_record, takes_spent

#: Goes up when marks or lanes are drawn otherwise.
DRAWING_VERSION = 9
LANES = ("placement", "pitch", "tempo", "loudness")
#: What a bar's cell shows is the worst thing in it, by the category of the finding; the sign's shape carries the meaning.
_WORST = ("notes", "flow", "rhythm", "intonation", "tempo")


@dataclass(frozen=True, kw_only=True)
class BarCell:
    """One bar in a strip: its number, what is worst in it (a CSS class), and the same in words."""

    number: str
    worst: str
    words: str

    @property
    def css(self) -> str:
        return self.worst if self.worst in ("", "unjudged") else f"{self.worst} has"


class BarStrip(list[BarCell]):
    """A take's bars at a glance, as markup made in one go: lists show hundreds of cells."""

    @property
    def as_list(self) -> SafeString:
        return self._written('{}<span class="visually-hidden">{}</span>', lambda cell: (cell.number, cell.words))

    @property
    def playable(self) -> SafeString:
        """Each cell plays its bar."""
        button = '{}<button type="button" data-play-bar="{}" aria-label="{} Play bar {}."></button>'
        return self._written(button, lambda cell: (cell.number, cell.number, cell.words, cell.number))

    def _written(self, content: str, values: Callable[[BarCell], tuple[str, ...]]) -> SafeString:
        if not self:
            return SafeString("")
        rows = ((cell.css, cell.words, *values(cell)) for cell in self)
        return format_html(
            '<ol class="strip" aria-label="Bars">{}</ol>', format_html_join("", f'<li class="{{}}" title="{{}}">{content}</li>', rows)
        )


@dataclass(frozen=True, kw_only=True)
class TaskRow:
    task: Task
    take: Take | None
    strip: BarStrip
    review: Any
    played: str


def task_rows(tasks: Any) -> list[TaskRow]:
    """Tasks with their newest take, its bars at a glance, and the teacher's answer if there is one."""
    summaries = Prefetch("analyses", queryset=Analysis.objects.defer("result", "parameters"))
    takes = Take.objects.select_related("submission__review").prefetch_related(summaries).defer("peaks").order_by("number")
    rows = []
    for task in tasks.prefetch_related(Prefetch("takes", queryset=takes)):
        own = list(task.takes.all())
        submitted = [t for t in own if hasattr(t, "submission")]
        take = submitted[-1] if submitted else own[-1] if own else None
        review = getattr(take.submission, "review", None) if submitted and take else None
        analysis = take.latest_analysis if take else None
        rows.append(
            TaskRow(
                task=task,
                take=take,
                strip=strip_of(analysis),
                review=review if review and review.sent_at else None,
                played=played_tempo(analysis, task.assignment.beat_unit),
            )
        )
    return rows


def summary_of(result: dict[str, Any]) -> dict[str, Any]:
    """What lists show of a result."""
    return {
        "strip": [[cell.number, cell.worst, cell.words] for cell in bar_strip(result)],
        "played_qpm": (result.get("tempo") or {}).get("played_bpm"),
        "findings": len(result.get("findings") or []),
    }


def strip_of(analysis: Analysis | None) -> BarStrip:
    """The bars of a take at a glance, from the summary of what was heard."""
    cells = analysis.summary.get("strip", []) if analysis else []
    return BarStrip(BarCell(number=number, worst=worst, words=words) for number, worst, words in cells)


def played_tempo(analysis: Analysis | None, beat_unit: str) -> str:
    """The played tempo in the assignment's own beat unit, or nothing where it was not measured."""
    played = analysis.summary.get("played_qpm") if analysis else None
    return f"{played / BEAT_UNIT_QUARTERS[beat_unit]:.0f}" if played else ""


def bar_strip(result: dict[str, Any]) -> list[BarCell]:
    """The whole take at a glance: one cell a bar, worst matter first."""
    notes = result.get("notes")
    if notes is None:
        return []
    cells = []
    findings: dict[str, list[dict[str, Any]]] = {}
    for finding in result["findings"]:
        if finding["bar"] is not None:
            findings.setdefault(finding["bar"], []).append(finding)
    for number in dict.fromkeys(note["bar"] for note in notes):
        own = findings.get(number, [])
        categories = {f["category"] for f in own}
        worst = next((c for c in _WORST if c in categories), "")
        if not worst and not is_said(result) and all(n["status"] == "uncertain" for n in notes if n["bar"] == number):
            worst = "unjudged"
        words = " ".join(f["text"] for f in own) or ("Not judged." if worst == "unjudged" else "Nothing to mend.")
        cells.append(BarCell(number=number, worst=worst, words=f"Bar {number}. {words}" if not own else words))
    return cells


def is_said(result: dict[str, Any]) -> bool:
    """Whether names were said: nothing is judged note by note then, only the pace."""
    return bool(result["targets"].get("step") == "say")


def bar_numbers(passage: Passage) -> dict[str, str]:
    """Bar ids of the engraving to printed numbers."""
    return {bar["id"]: bar["number"] for bar in passage.part_entry["bars"]}


def plain_drawings(passage: Passage, layouts: tuple[str, ...] = ACROSS) -> dict[str, str]:
    """The passage as SVG for each layout, with bars to touch."""
    return _drawn(f"plain:{passage.pk}", passage, layouts, plain_score_of)


def plain_score_of(engraving: Engraving, passage: Passage) -> str:
    return plain_score(engraving.svg, engraving.geometry, bar_numbers(passage))


def heard_drawings(passage: Passage, analysis: Analysis) -> dict[str, str]:
    """The passage beside words, with marks and lanes. Only notes named by a finding carry the accent."""
    result = analysis.result
    flagged: dict[str, set[str]] = {}
    for finding in result["findings"] or []:
        flagged.setdefault(finding["category"], set()).update(finding["note_ids"])

    def draw(engraving: Engraving, passage: Passage) -> str:
        view = View(lanes=("tempo",) if is_said(result) else LANES, bar_numbers=bar_numbers(passage), flagged=flagged)
        return score_with_lanes(engraving.svg, engraving.geometry, result, view)

    return _drawn(f"heard:{analysis.pk}", passage, BESIDE, draw)


def _drawn(key: str, passage: Passage, layouts: tuple[str, ...], draw: Callable[[Engraving, Passage], str]) -> dict[str, str]:
    """Drawings from the cache, or made now. What they show never changes: passages and analyses are not overwritten."""
    keys = {layout: f"{DRAWING_VERSION}:{ENGRAVER}:{key}:{layout}" for layout in layouts}
    kept: dict[str, str] = cache.get_many(keys.values())
    missing = [layout for layout in layouts if keys[layout] not in kept]
    if missing:
        found = engravings_of(revision=passage.revision, part=passage.part, bars=passage.bars, layouts=missing)
        made = {keys[layout]: draw(engraving, passage) for layout, engraving in found.items()}
        cache.set_many(made, timeout=None)
        kept |= made
    return {layout: kept[full_key] for layout, full_key in keys.items()}


def passage_of(take: Take) -> Passage:
    """The passage a take was judged against, which need not be the assignment's of today."""
    return Passage.objects.select_related("revision__piece").defer("revision__prepared").get(pk=take.basis["passage_id"])


def player_data(take: Take, result: dict[str, Any] | None) -> dict[str, Any]:
    """What the player in the browser needs: the sound, its delay, and when each note and bar sounds."""
    notes = [n for n in (result or {}).get("notes") or [] if n["onset_s"] is not None]
    bars: dict[str, float] = {}
    for note in notes:
        bars.setdefault(f"{note['bar']}.{note['pass']}", note["onset_s"])
    return {
        "sound": reverse("takes:sound", args=[take.pk]),
        "delay": take.playback_delay_s,
        "duration": take.duration_s,
        "peaks": take.peaks,
        "notes": [[n["id"], n["pass"], n["onset_s"], n["offset_s"]] for n in notes],
        "bars": [[*key.rsplit(".", 1), time] for key, time in bars.items()],
    }


def model_data(task: Task) -> list[dict[str, Any]]:
    """The models of a student's part at the assigned tempo and slower, ready or not."""
    assignment = task.assignment
    sounds = model_sounds(
        passage=task.passage, instrument=task.enrolment.instrument, tempo_qpm=task.targets.tempo_qpm, count_off=assignment.count_off
    )
    return [
        {
            "tempo": f"{sound.tempo_qpm / assignment.beat_unit_quarters:.0f}",
            "url": reverse("library:model_sound", args=[sound.pk]) if sound.sound else "",
            "failed": sound.failed,
        }
        for sound in sounds
    ]


def accompaniment_data(task: Task) -> dict[str, Any] | None:
    """The accompaniment to play along with, if it is rendered; ``leadS`` is when the student enters in it."""
    qpm, count_off = task.targets.tempo_qpm, task.assignment.count_off
    key = accompaniment_of(task.passage, qpm, count_off)
    sound = ModelSound.objects.filter(**key).exclude(sound="").first() if key else None
    if sound is None:
        return None
    root = task.passage.root
    beat_s = 60.0 / qpm * expectation_of(revision_id=root.revision_id, part=root.part, bars=root.bars).bars[0].beat_quarters
    lead_s = 0.3 + count_off * beat_s + intro_quarters(root, sound.intro_bars) * 60.0 / qpm
    return {"sound": sound.pk, "url": reverse("library:model_sound", args=[sound.pk]), "leadS": lead_s, "intro": sound.intro_bars}


def task_page(task: Task, person: Person, step: str = "") -> dict[str, Any]:
    """Everything on the page of one task; ``step`` is the one that the recorder is to begin with."""
    assignment = task.assignment
    refusal = ""
    try:
        check_may_record(student=person, task=task)
    except TakeRefused as error:
        refusal = str(error)
    rows = task_rows(Task.objects.filter(pk=task.pk).for_lists())
    takes = list(task.takes.select_related("submission__review", "self_review").defer("peaks").order_by("-number"))
    beats = assignment.count_off
    accompaniment = accompaniment_data(task)
    return {
        "task": task,
        "assignment": assignment,
        "drawings": pinned_drawings(task.passage) if has_additions(task.passage) else plain_drawings(task.passage),
        "remarks": numbered_remarks(task.passage),
        "references": task.passage.root.references.prefetch_related("moments"),
        "models": model_data(task),
        "refusal": refusal,
        "row": rows[0],
        "takes": takes,
        "takes_left": assignment.takes_allowed - takes_spent(task) if assignment.takes_allowed else None,
        "steps": _steps(task, takes, step),
        "prepared_s": _prepared_s(task),
        "accompaniment": accompaniment,
        "recorder": {
            "backing": accompaniment,
            "tempo": task.tempo or assignment.tempo,
            "countOff": beats,
            "task": task.pk,
            "uploads": reverse("takes:uploads"),
            "takePage": reverse("takes:detail", args=[0]),
        },
    }


def _steps(task: Task, takes: list[Take], asked: str) -> list[dict[str, Any]]:
    """The steps of a task and which are done: recorded ones by a take that was heard, the others by the student's word. The recorder
    begins with the one asked for, else with the goal.
    """
    chosen = asked if asked in {step.slug for step in task.steps} else task.assignment.step
    heard = {take.basis.get("step") for take in takes if take.state == TakeState.ANALYSED}
    ticked = {*heard, *task.steps_done}
    return [
        {
            "step": step,
            "done": step.slug in (heard if step.method else ticked),
            "last": step.slug == task.assignment.step,
            "chosen": step.slug == chosen,
        }
        for step in task.steps
    ]


def _prepared_s(task: Task) -> int | None:
    """Seconds left of the preparation clock; 0 when it has run out, None without one."""
    allowed = task.assignment.preparation_s
    if allowed is None or task.opened_at is None:
        return None
    return max(0, allowed - int((timezone.now() - task.opened_at).total_seconds()))


def findings_in_words(result: dict[str, Any] | None) -> list[dict[str, Any]]:
    """Findings by category, the gravest first; ``note_index`` says which note's evidence stands behind one."""
    found = (result or {}).get("findings") or []
    order = list(dict.fromkeys(f["category"] for f in found))
    return [
        {**f, "title": CATEGORY_TITLES[f["category"]], "note_index": index_of_note(result, f["note_ids"], f["pass"])}
        for f in sorted(found, key=lambda f: order.index(f["category"]))
    ]


def index_of_note(result: dict[str, Any] | None, note_ids: list[str], pass_: int | None = None) -> int | None:
    """The place among the analysed notes of the first one named; None where none is."""
    if not note_ids or not result:
        return None
    notes = enumerate(result["notes"] or [])
    return next((i for i, n in notes if n["id"] == note_ids[0] and (pass_ is None or n["pass"] == pass_)), None)


def heard_by(take: Take, person: Person) -> dict[str, Any] | None:
    """What was heard in a take, if this person may see it by now: a student listens first, where the teacher wants that."""
    analysis = take.latest_analysis
    result: dict[str, Any] | None = analysis.result if analysis and take.state == TakeState.ANALYSED else None
    if person.is_teacher:
        return result
    review = getattr(getattr(take, "submission", None), "review", None)
    opened = not take.waits_for_listening or (review is not None and review.sent_at is not None)
    return result if opened and take.task.assignment.students_see != StudentSees.REMARKS else None


def _next_step(take: Take) -> str:
    """The slug of the step after the one that this take records."""
    slugs = [step.slug for step in take.task.steps]
    return slugs[min(slugs.index(take.on_the_way.slug) + 1, len(slugs) - 1)] if take.on_the_way in take.task.steps else slugs[-1]


def _checklist_of(take: Take) -> list[tuple[str, str]]:
    step = take.on_the_way
    if step is None or not step.listen_for:
        return take.task.assignment.checklist_entries
    return [(slug, CATEGORY_TITLES[slug]) for slug in step.listen_for]


def take_page(take: Take, person: Person) -> dict[str, Any]:
    """The student's page of one take: first the ear and the checklist, then what was heard."""
    assignment = take.task.assignment
    analysis = take.latest_analysis
    result = analysis.result if analysis and take.state == TakeState.ANALYSED else None
    passage = passage_of(take)
    own = getattr(take, "self_review", None)
    review = getattr(getattr(take, "submission", None), "review", None)
    review = review if review and review.sent_at else None
    opened = not take.waits_for_listening or review is not None
    sees_marks = assignment.students_see != StudentSees.REMARKS
    show_heard = result is not None and heard_by(take, person) is not None
    marks = {m.category: m for m in own.marks.all() if not m.bar} if own else {}
    return {
        "take": take,
        "task": take.task,
        "assignment": assignment,
        "is_owner": take.task.enrolment.student_id == person.pk,
        "result": result,
        "own": own,
        "pins": [m for m in own.marks.all() if m.bar] if own else [],
        "checklist": [(slug, title, marks.get(slug)) for slug, title in _checklist_of(take)],
        "review": review,
        "kept": list(review.marks.filter(standing="kept")) if review else [],
        "show_heard": show_heard,
        "show_figures": show_heard and assignment.students_see == StudentSees.FIGURES,
        "opened": opened,
        "next_step": _next_step(take),
        "sees_marks": sees_marks,
        "drawings": heard_drawings(passage, analysis) if show_heard and analysis else plain_drawings(passage, BESIDE),
        "findings": findings_in_words(result) if show_heard else [],
        "strip": strip_of(analysis) if show_heard else BarStrip(),
        "played": played_tempo(analysis, assignment.beat_unit),
        "player": player_data(take, result) if take.playback else None,
        "quality": (analysis.result["audio"]["quality"] if analysis else None),
    }
