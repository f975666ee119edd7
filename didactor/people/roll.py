"""A class list, pasted or as a CSV file, read line by line; what cannot be read is said of its line and stops no other."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from dataclasses import dataclass, replace

from didactor.core.instruments import BY_SLUG, find_instrument
from didactor.core.words import _, worded
from didactor.people.models import Enrolment, Level, Person, Studio

COLUMNS = ("name", "instrument", "level", "group", "guardian", _("under age"))
#: What a list's first line may call a column.
_TITLES = {"student": "name", "class": "group", "parent": "guardian", "minor": _("under age"), "under 18": _("under age")}
_YES, _NO = {"yes", "y", "x", "true", "1", "minor", _("under age")}, {"no", "n", "false", "0", "adult", ""}
MOST_LINES = 300
MOST_NAME, MOST_GROUP = 120, 80


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One line of a list. ``problem`` says why it cannot be taken; ``known`` is the student of that name who is in the studio already."""

    line: str
    name: str = ""
    instrument: str = ""
    level: str = Level.ELEMENTARY
    group: str = ""
    guardian: str = ""
    is_minor: bool = False
    known: Person | None = None
    plays_it: bool = False
    problem: str = ""

    @property
    def instrument_title(self) -> str:
        return BY_SLUG[self.instrument].title if self.instrument else ""

    @property
    def level_title(self) -> str:
        return str(Level(self.level).label)

    @property
    def is_new(self) -> bool:
        return not self.problem and not self.plays_it


def read_roll(text: str, studio: Studio, usual_group: str = "") -> list[Row]:
    """Rows of a list, in its order, empty lines left out.

    Columns are separated by tabs, semicolons or commas, and stand in the order of ``COLUMNS`` unless the first line names them.
    ``usual_group``: for lines that name none.
    """
    lines = [line for line in text.replace("\r", "\n").split("\n") if line.strip()]
    separator = max("\t;,", key=lambda s: sum(line.count(s) for line in lines)) if lines else ","
    columns = _columns(_cells(lines[0], separator)) if lines else None
    body = lines[1:] if columns else lines
    known = {person.name.casefold(): person for person in Person.objects.filter(studio=studio, is_active=True).students()}
    plays = set(Enrolment.objects.filter(student__in=known.values()).values_list("student_id", "instrument"))
    rows: list[Row] = []
    taken: set[tuple[str, str]] = set()
    for line in body[:MOST_LINES]:
        row = _row(line, _cells(line, separator), columns or COLUMNS, usual_group)
        who = row.name.casefold()
        person = known.get(who)
        again = (who, row.instrument) in taken and not row.problem
        taken.add((who, row.instrument))
        rows.append(
            replace(
                row,
                known=person,
                plays_it=person is not None and (person.pk, row.instrument) in plays,
                problem=worded("The same name and instrument stand in the list twice.") if again else row.problem,
            )
        )
    rows += [
        Row(line=line, problem=worded("A list of at most {most_lines} students is read at once.", most_lines=MOST_LINES))
        for line in body[MOST_LINES:]
    ]
    return rows


def heading_of(text: str) -> str:
    """A list's first line, where it names the columns; else nothing."""
    first = next((line for line in text.replace("\r", "\n").split("\n") if line.strip()), "")
    return first if any(_columns(_cells(first, separator)) for separator in "\t;,") else ""


def _cells(line: str, separator: str) -> list[str]:
    return [cell.strip() for cell in next(csv.reader(io.StringIO(line), delimiter=separator, skipinitialspace=True), [])]


def _columns(cells: list[str]) -> tuple[str, ...] | None:
    """The columns in the order of a first line that names them; None where it is a student's."""
    named = tuple(_TITLES.get(cell.casefold(), cell.casefold()) for cell in cells)
    return named if "name" in named and "instrument" in named else None


def _row(line: str, cells: list[str], columns: tuple[str, ...], usual_group: str) -> Row:
    by_name = dict(zip(columns, cells, strict=False))
    name, group, guardian = by_name.get("name", ""), by_name.get("group", "") or usual_group, by_name.get("guardian", "")
    under_age = by_name.get(worded("under age"), "yes" if guardian else "").casefold()
    instrument = find_instrument(by_name.get("instrument", "")).slug if by_name.get("instrument") else ""
    level = _level(by_name.get("level", ""))
    problem = next(_problems(name, group, guardian, under_age, instrument, level, by_name), "")
    if problem:
        return Row(line=line, name=name[:MOST_NAME], problem=problem)
    return Row(
        line=line,
        name=name,
        instrument=instrument,
        level=level or Level.ELEMENTARY,
        group=group,
        guardian=guardian,
        is_minor=under_age in _YES,
    )


def _problems(
    name: str, group: str, guardian: str, under_age: str, instrument: str, level: str | None, given: dict[str, str]
) -> Iterator[str]:
    if not name:
        yield worded("There is no name.")
    if max(len(name), len(guardian)) > MOST_NAME or len(group) > MOST_GROUP:
        yield worded("A name is at most {most_name} letters long, a group’s {most_group}.", most_name=MOST_NAME, most_group=MOST_GROUP)
    if not given.get("instrument"):
        yield worded("There is no instrument: write it after the name and a comma.")
    elif instrument not in BY_SLUG:
        yield worded("No instrument is called “{given}” here.", given=given["instrument"][:40])
    if level is None:
        yield worded(
            "No level is called “{given}”: it is one of {label}.",
            given=given["level"][:40],
            label=", ".join(label.lower() for label in Level.labels),
        )
    if under_age not in _YES | _NO:
        yield worded("Under age is yes or no, not “{under_age}”.", under_age=under_age[:40])


def _level(word: str) -> str | None:
    """The level that a word means, elementary where there is none; None for an unknown one."""
    if not word:
        return str(Level.ELEMENTARY)
    return next((str(level.value) for level in Level if level.label.casefold().startswith(word.casefold())), None)
