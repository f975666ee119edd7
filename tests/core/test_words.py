"""Words that are kept as what they were made of and said again in another language."""

from __future__ import annotations

import json
import pickle
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from didactor.core.formats.plain import from_plain, stored, to_plain
from didactor.core.words import English, Table, _, again, counted, english, is_made, keep, listed, note_name, read, speak_with, worded

TALL = {
    "Bar {bar} is left out.": "Takt {bar} fehlt.",
    "{place}: {note} is {cents:.1f} cents sharp.": "{place}: {note} ist {cents:.1f} Cent zu hoch.",
    "Bar {bar}": "Takt {bar}",
    "wrong notes": "falsche Töne",
    "{first} and {last}": "{first} und {last}",
    "Not judged.": "Nicht beurteilt.",
}
PLURALS = {"{count} take": ("{count} Aufnahme", "{count} Aufnahmen")}


class German(English):
    def message(self, text: str) -> str:
        return TALL.get(text, text)

    def counted(self, one: str, many: str, count: int) -> str:
        return PLURALS[one][count != 1] if one in PLURALS else super().counted(one, many, count)

    def note(self, name: str) -> str:
        return {"Eb": "Es", "B": "H"}.get(name, name)

    def decimal(self) -> str:
        return ","


@contextmanager
def in_german() -> Iterator[None]:
    from didactor.core import words

    before = words._speaker
    speak_with(German())
    try:
        yield
    finally:
        speak_with(before)


class WordsTests(unittest.TestCase):
    def setUp(self) -> None:
        from didactor.core import words

        self.addCleanup(speak_with, words._speaker)
        speak_with(English())

    def sharp(self) -> str:
        return worded("{place}: {note} is {cents:.1f} cents sharp.", place=worded("Bar {bar}", bar="7"), note=note_name("Eb4"), cents=12.34)

    def test_they_are_plain_text_in_the_language_spoken_then(self):
        self.assertEqual(self.sharp(), "Bar 7: E flat is 12.3 cents sharp.")
        with in_german():
            self.assertEqual(self.sharp(), "Takt 7: Es ist 12,3 Cent zu hoch.")

    def test_what_is_kept_is_read_in_another_language(self):
        text = self.sharp()
        kept = json.loads(json.dumps(keep(text)))
        with in_german():
            self.assertEqual(read(kept), "Takt 7: Es ist 12,3 Cent zu hoch.")
            self.assertEqual(again(text), "Takt 7: Es ist 12,3 Cent zu hoch.")
            self.assertEqual(english(read(kept)), text)
        self.assertEqual(read(kept), text)
        self.assertEqual(keep(read(kept)), kept)

    def test_words_by_how_many_there_are(self):
        one, many = counted("{count} take", "{count} takes", 1), counted("{count} take", "{count} takes", 3)
        self.assertEqual((one, many), ("1 take", "3 takes"))
        with in_german():
            self.assertEqual((read(keep(one)), read(keep(many))), ("1 Aufnahme", "3 Aufnahmen"))
            self.assertEqual(english(read(keep(many))), "3 takes")

    def test_they_come_whole_out_of_another_process(self):
        for text in (self.sharp(), counted("{count} take", "{count} takes", 2), note_name("B3"), _("wrong notes")):
            back = pickle.loads(pickle.dumps(text))
            self.assertEqual((type(back), back, keep(back)), (type(text), text, keep(text)))

    def test_words_of_a_table_are_english_to_programs_and_speak_where_they_are_shown(self):
        name = _("wrong notes")
        with in_german():
            self.assertEqual({name: 1}["wrong notes"], 1)
            self.assertEqual((str(name), f"{name}!", name.lower()), ("falsche Töne", "falsche Töne!", "falsche töne"))
            self.assertEqual(worded("3 {which}", which=name), "3 falsche Töne")
            self.assertEqual(keep(name), "wrong notes")
            self.assertEqual(read("wrong notes"), "falsche Töne")
        self.assertEqual(Table("<b> & c").__html__(), "&lt;b&gt; &amp; c")

    def test_text_that_nobody_worded_stays_as_it_is(self):
        for text in ("As typed", "with {braces} and {0}", "}{"):
            self.assertEqual((keep(text), read(text), again(text), english(text)), (text, text, text, text))
            self.assertFalse(is_made(text))

    def test_a_pattern_reaches_into_nothing(self):
        for pattern in ("{bar.__class__}", "{bar[0]}", "{0}", "{}"):
            with self.assertRaises((KeyError, ValueError, IndexError)):
                read({"words": pattern, "with": {"bar": "7"}})
        with self.assertRaises(KeyError):
            worded("Bar {bar} is left out.")

    def test_values_that_look_like_patterns_are_values(self):
        text = worded("Bar {bar} is left out.", bar="{cents} 50 % \\")
        self.assertEqual(text, "Bar {cents} 50 % \\ is left out.")
        self.assertEqual(read(keep(text)), text)

    def test_whole_numbers_keep_their_form_and_others_get_the_readers_point(self):
        with in_german():
            self.assertEqual(worded("{a} {b:g} {c:+.1f}", a=1200, b=92.5, c=-3.0), "1200 92,5 -3,0")

    def test_a_list_in_words(self):
        self.assertEqual([listed(x) for x in ([], ["2"], ["2", "5"], ["2", "5", "7"])], ["", "2", "2 and 5", "2, 5 and 7"])
        with in_german():
            self.assertEqual(listed(["2", "5", "7"]), "2, 5 und 7")

    def test_names_of_notes(self):
        names = ["C4", "Eb", "F#5", "Bbb3", "C##-1", "B"]
        self.assertEqual(list(map(note_name, names)), ["C", "E flat", "F sharp", "B double flat", "C double sharp", "B"])


@dataclass(frozen=True, kw_only=True)
class _Told:
    code: str
    text: str = stored(words=True)
    reason: str | None = stored(words=True, default=None)


class KeptTests(unittest.TestCase):
    def setUp(self) -> None:
        WordsTests.setUp(self)  # type: ignore[arg-type]

    def test_a_value_is_kept_in_english_beside_what_it_was_made_of(self):
        with in_german():
            told = _Told(code="x", text=worded("Bar {bar} is left out.", bar="7"), reason=_("Not judged."))
            self.assertEqual(told.text, "Takt 7 fehlt.")
            plain = json.loads(json.dumps(to_plain(told)))
            self.assertEqual((plain["text"], plain["reason"]), ("Bar 7 is left out.", "Not judged."))
            self.assertNotIn("reason_made_of", plain)
            back = from_plain(_Told, plain)
            self.assertEqual((back.text, back.reason), ("Takt 7 fehlt.", "Nicht beurteilt."))
        self.assertEqual(from_plain(_Told, plain).text, "Bar 7 is left out.")
        # What an earlier version kept has the English alone.
        self.assertEqual(from_plain(_Told, {"code": "x", "text": "Bar 7 is left out."}), _Told(code="x", text="Bar 7 is left out."))
