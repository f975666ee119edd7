"""Who may do what to whom: the table, and nothing else decides it.

A view asks ``Person.objects.whom(request.user, Act.MAKE_CARD)`` and looks the person up in that; whoever is not in it is not there for
them (404). A new act is a line of ``TABLE``, and ``tests/apps/test_acts.py`` tries each cell of it through the real pages.
"""

from __future__ import annotations

from enum import StrEnum


class Whose(StrEnum):
    """Whom an act is done to, as seen by who does it."""

    OWN = "oneself"
    STUDENT = "a student of the studio"
    LEFT = "a student of the studio, who may have left"
    GUARDIAN = "a guardian of the studio"
    WARD = "a ward"
    COLLEAGUE = "a colleague, who does not own the studio"


class Act(StrEnum):
    CHOOSE_LETTERS = "choose which letters come"
    ENTER_ADDRESS = "enter an e-mail address where there is none"
    CHANGE_ADDRESS = "change an e-mail address"
    CHANGE_PASSWORD = "change the password, the second factor, end sessions"
    MAKE_CARD = "make a card to sign in with, or pictures"
    CHANGE_PERSON = "change name, age, instruments, guardians"
    CONSENT = "record and withdraw consent"
    LET_GO = "let leave: no sign-in any more"
    COPY = "have all that is kept as a file"
    ERASE = "erase for good"
    HAND_ON = "make the owner of the studio"


_TEACHER = {
    Act.CHOOSE_LETTERS: {Whose.OWN, Whose.STUDENT, Whose.GUARDIAN},
    Act.ENTER_ADDRESS: {Whose.STUDENT, Whose.GUARDIAN},
    Act.CHANGE_ADDRESS: {Whose.OWN},
    Act.CHANGE_PASSWORD: {Whose.OWN},
    Act.MAKE_CARD: {Whose.STUDENT},
    Act.CHANGE_PERSON: {Whose.STUDENT},
    Act.CONSENT: {Whose.STUDENT},
    Act.LET_GO: {Whose.STUDENT},
    Act.COPY: {Whose.OWN, Whose.LEFT},
    Act.ERASE: {Whose.LEFT},
}
_BY_CARD = {Act.CHOOSE_LETTERS: {Whose.OWN}, Act.CHANGE_ADDRESS: {Whose.OWN}, Act.COPY: {Whose.OWN}}
#: By role, the owner apart from other teachers. What is not in it nobody may.
TABLE: dict[str, dict[Act, set[Whose]]] = {
    "owner": {**_TEACHER, Act.LET_GO: {Whose.STUDENT, Whose.COLLEAGUE}, Act.HAND_ON: {Whose.COLLEAGUE}},
    "teacher": _TEACHER,
    "student": _BY_CARD,
    "guardian": {**_BY_CARD, Act.CONSENT: {Whose.WARD}, Act.COPY: {Whose.OWN, Whose.WARD}},
}


def allowed(role: str, is_owner: bool, act: Act) -> set[Whose]:
    """Whom somebody may do this to; nobody, for what the table does not name."""
    return TABLE["owner" if role == "teacher" and is_owner else role].get(act, set())
