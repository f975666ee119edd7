"""One student's takes over weeks, for pictures, tables and a file."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any

from django.db.models import OuterRef, Subquery
from django.utils import timezone

from didactor.assignments.models import BEAT_UNITS
from didactor.core.comparing.over_weeks import (
    Ear,
    SamePlace,
    TakeThen,
    TempoLine,
    clean_in_words,
    ear_over,
    same_places,
    tempo_lines,
    thinking_lines,
)
from didactor.core.formats.weeks import draw_categories, draw_minutes, draw_tempi, draw_thinking
from didactor.core.judging.categories import TITLES
from didactor.core.units import quarters_to_beats_per_minute
from didactor.people.models import Person
from didactor.practice.models import Attempt
from didactor.progress.files import as_csv
from didactor.takes.models import Analysis, SelfMark, Take, TakeState

#: The newest takes that are looked at, takes in the picture of categories, and weeks in that of minutes.
TAKES_LOOKED_AT, COLUMNS, WEEKS = 200, 24, 12
#: Pieces in the picture of tempi.
PIECES = 8
#: Minutes are drawn from so many weeks with any on.
WEEKS_FROM = 2


@dataclass(frozen=True, kw_only=True)
class OverWeeks:
    """Pictures are empty where there is too little for them."""

    takes: Sequence[TakeThen]
    lines: Sequence[TempoLine]
    tempi: str
    clean: str
    thinking: str
    categories: str
    same: Sequence[SamePlace]
    ear: Ear | None
    minutes: Sequence[tuple[date, float]]
    minutes_drawn: str


def over_weeks(person: Person, from_day: date = date.min, to_day: date = date.max) -> OverWeeks:
    """All of it, or from one day to another."""
    takes = [take for take in takes_then(person) if from_day <= take.day <= to_day]
    lines, thought = tempo_lines(takes), thinking_lines(takes)
    minutes = [(monday, spent) for monday, spent in minutes_by_week(person) if from_day <= monday <= to_day]
    columns = takes[-COLUMNS:]
    heard = len(columns) > 1 and any(take.categories for take in columns)
    return OverWeeks(
        takes=takes,
        lines=lines,
        tempi=draw_tempi(lines[:PIECES]) if lines else "",
        clean=clean_in_words(takes),
        thinking=draw_thinking(thought[:PIECES]) if thought else "",
        categories=draw_categories(columns, TITLES) if heard else "",
        same=same_places(takes)[:8],
        ear=ear_over(takes),
        minutes=minutes,
        minutes_drawn=draw_minutes(minutes) if sum(m > 0 for _, m in minutes) >= WEEKS_FROM else "",
    )


def takes_then(person: Person) -> list[TakeThen]:
    """What was handed in and could be judged, in order of time."""
    newest = Analysis.objects.filter(take=OuterRef("pk")).order_by("-pk").values("summary")[:1]
    rows = (
        Take.objects.filter(task__enrolment__student=person, submission__isnull=False, state=TakeState.ANALYSED)
        .order_by("-created_at", "-pk")
        .annotate(summary=Subquery(newest))
        .values_list(
            "pk",
            "created_at",
            "task__passage__revision__piece__title",
            "task__assignment__title",
            "basis__beat_unit",
            "basis__targets__tempo_qpm",
            "basis__targets__stage",
            "self_review__done_at",
            "summary",
            named=True,
        )[:TAKES_LOOKED_AT]
    )
    heard = [row for row in reversed(rows) if row.summary and row.summary.get("strip")]
    pins: dict[int, list[tuple[str, str]]] = {}
    mend = SelfMark.objects.filter(self_review__take__in=[row.pk for row in heard], verdict="mend").exclude(bar="")
    for take, bar, category in mend.values_list("self_review__take", "bar", "category"):
        pins.setdefault(take, []).append((bar, category))
    return [_then(row, pins.get(row.pk, [])) for row in heard]


def _then(row: Any, pins: Sequence[tuple[str, str]]) -> TakeThen:
    summary, unit = row.summary, row.basis__beat_unit
    order = {number: k for k, (number, _, _) in enumerate(summary["strip"])}
    played = summary.get("played_qpm")
    return TakeThen(
        key=row.pk,
        day=timezone.localtime(row.created_at).date(),
        piece=row.task__passage__revision__piece__title,
        title=row.task__assignment__title,
        unit=BEAT_UNITS[unit],
        tempo=quarters_to_beats_per_minute(played, unit) if played else None,
        asked=quarters_to_beats_per_minute(row.basis__targets__tempo_qpm, unit),
        findings=summary.get("findings", 0),
        categories=Counter(summary.get("categories", {})),
        places=[(bar, order[bar], category) for _, category, bar, *_ in summary.get("places", []) if bar in order],
        pins=[(bar, order[bar], category) for bar, category in pins if bar in order],
        marked=row.self_review__done_at is not None,
        thinking_s=summary.get("paused_s") if row.basis__targets__stage == "first_reading" else None,
    )


def minutes_by_week(person: Person) -> list[tuple[date, float]]:
    """Minutes of attempts and takes of the last weeks, each from its Monday; what was only practised without a device is not in them."""
    today = timezone.localdate()
    monday = today - timedelta(days=today.weekday())
    weeks = [monday - timedelta(weeks=k) for k in reversed(range(WEEKS))]
    since = timezone.make_aware(datetime.combine(weeks[0], time.min))
    found: dict[date, float] = {}
    played: list[tuple[Any, float | None]] = [
        *Attempt.objects.filter(task__enrolment__student=person, made_at__gte=since).values_list("made_at", "seconds"),
        *Take.objects.filter(task__enrolment__student=person, created_at__gte=since).values_list("created_at", "duration_s"),
    ]
    for at, seconds in played:
        day = timezone.localtime(at).date()
        week = day - timedelta(days=day.weekday())
        found[week] = found.get(week, 0.0) + (seconds or 0.0) / 60
    return [(week, found.get(week, 0.0)) for week in weeks]


def takes_csv(takes: Sequence[TakeThen]) -> str:
    """A line a take: day, piece, assignment, tempi, findings in all and by category."""
    rows: list[Sequence[object]] = [["day", "piece", "assignment", "beat", "asked", "played", "findings", "thinking_s", *TITLES]]
    for take in takes:
        played = "" if take.tempo is None else f"{take.tempo:.1f}"
        thinking = "" if take.thinking_s is None else f"{take.thinking_s:.1f}"
        counts = [take.categories.get(slug, 0) for slug in TITLES]
        rows.append([take.day.isoformat(), take.piece, take.title, take.unit, f"{take.asked:g}", played, take.findings, thinking, *counts])
    return as_csv(rows)
