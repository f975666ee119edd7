"""Who says the core's words: Django's messages in the language of the request, and the names of notes that the studio uses."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from django.utils.formats import get_format
from django.utils.functional import lazy
from django.utils.translation import get_language, gettext, ngettext, override

from didactor.core.score.spelling import german_name, syllable
from didactor.core.words import _, worded


def lazy_words(function: Callable[[], str]) -> str:
    """A form's words with values in them, made anew whenever they are shown."""
    return lazy(function, str)()  # type: ignore[return-value]


#: How a studio calls notes; without a choice of its own, as its language does.
NAMINGS = {"letters": _("C D E F G A B"), "german": _("C D E F G A H, B for B flat"), "fixed_do": _("do re mi fa sol la si")}
_SIGNS = {"bb": _("{note} double flat"), "b": _("{note} flat"), "#": _("{note} sharp"), "##": _("{note} double sharp")}
_naming: ContextVar[str] = ContextVar("naming", default="")


def naming_spoken() -> str:
    """How notes are called now: a key of ``NAMINGS``."""
    return _naming.get() or ("german" if (get_language() or "").startswith("de") else "letters")


class Reader:
    """Speaks to whoever the page, letter or sheet is for."""

    def message(self, text: str) -> str:
        return gettext(text) if text else ""

    def counted(self, one: str, many: str, count: int) -> str:
        return ngettext(one, many, count)

    def note(self, name: str) -> str:
        naming = naming_spoken()
        if naming == "german":
            return german_name(name)
        letter = syllable(name[0]) if naming == "fixed_do" else name[0]
        return worded(str.__str__(_SIGNS[name[1:]]), note=letter) if name[1:] else letter

    def decimal(self) -> str:
        return str(get_format("DECIMAL_SEPARATOR"))


def call_notes(naming: str) -> None:
    """For the rest of this request."""
    _naming.set(naming)


@contextmanager
def speaking(language: str, naming: str) -> Iterator[None]:
    """In somebody else's language and names, for a letter or a sheet."""
    token = _naming.set(naming)
    try:
        with override(language or None):
            yield
    finally:
        _naming.reset(token)
