"""Roads as they are printed: endings in groups and lists, jumps, several signs, words alone, signs in the first part alone."""

from __future__ import annotations

from django.test import SimpleTestCase

from didactor.core.score.expected import expect
from didactor.core.score.model import Score
from didactor.core.score.read.musicxml import prepare, read
from tests.core.test_formats_in import scores
from tests.core.test_musicxml import ATTRIBUTES, note

LETTERS = "CDEFGABCDEFGAB"


def bar(index: int, *signs: str) -> str:
    """One whole note, its letter by the bar's place, with signs: ``[:``, ``:]``, ``1``, ``1,2``, ``segno``, ``"words"``, ``coda``."""
    left, before, after, right = "", "", "", ""
    for sign in signs:
        if sign == "[:":
            left += '<repeat direction="forward"/>'
        elif sign.startswith(":]"):
            right += f'<repeat direction="backward"{f""" times="{sign[2:]}" """ if sign[2:] else ""}/>'
        elif sign[0].isdigit():
            left += f'<ending number="{sign}" type="start"/>'
            right = f'<ending number="{sign}" type="stop"/>' + right
        elif sign in ("segno", "coda"):
            before += f"<direction><direction-type><{sign}/></direction-type></direction>"
        elif sign.startswith('"'):
            after += f"<direction><direction-type><words>{sign[1:-1]}</words></direction-type></direction>"
        else:
            name, value = sign.split("=")
            after += f'<direction><sound {name}="{value}"/></direction>'
    body = before + note(LETTERS[index], 16, 4 + index // 7) + after
    left = f'<barline location="left">{left}</barline>' if left else ""
    right = f'<barline location="right">{right}</barline>' if right else ""
    return left + body + right


def score(*parts: list[str]) -> Score:
    listed = "".join(f'<score-part id="P{i}"><part-name>Part {i}</part-name></score-part>' for i in range(len(parts)))
    body = ""
    for index, bars in enumerate(parts):
        measures = "".join(
            f'<measure number="{i + 1}">{ATTRIBUTES.format(fifths=0, beats=4, type=4, more="") if i == 0 else ""}'
            f"{bar(i, *signs.split())}</measure>"
            for i, signs in enumerate(bars)
        )
        body += f'<part id="P{index}">{measures}</part>'
    return read(prepare(f'<?xml version="1.0"?><score-partwise><part-list>{listed}</part-list>{body}</score-partwise>'.encode()))


def road(*bars: str, passage: str | None = None) -> str:
    """The numbers of the bars in the order of playing."""
    expected = expect(score(list(bars)).parts[0], passage)
    return " ".join(str(LETTERS.index(n.written_pitch[0]) + 1 + 7 * (int(n.written_pitch[-1]) - 4)) for n in expected.notes)


class RoadTests(SimpleTestCase):
    def test_a_second_group_of_endings_begins_again_with_the_first(self):
        self.assertEqual(road("[:", "1 :]", "2", "[:", "1 :]", "2", ""), "1 2 1 3 4 5 4 6 7")

    def test_a_second_group_needs_no_opening_sign(self):
        self.assertEqual(road("", "1 :]", "2", "", "1 :]", "2"), "1 2 1 3 4 5 4 6")

    def test_groups_that_follow_each_other_at_once(self):
        self.assertEqual(road("", "1 :]", "2", "1 :]", "2"), "1 2 1 3 4 5")

    def test_endings_for_several_times(self):
        self.assertEqual(road("[:", "1,2 :]", "3", ""), "1 2 1 2 1 3 4")
        self.assertEqual(road("[:", "1 :]", "2 :]", "3"), "1 2 1 3 1 4")

    def test_a_repeat_says_how_often(self):
        self.assertEqual(road("[: :]4", ""), "1 1 1 1 2")
        self.assertEqual(road("[: :]1000000000", ""), "1 " * 9 + "2")
        self.assertEqual(road("[: :]²", ""), "1 1 2")

    def test_after_a_jump_no_repeats_and_the_last_ending_alone(self):
        self.assertEqual(road("[:", "1 :]", "2", "dacapo=yes"), "1 2 1 3 4 1 3 4")
        self.assertEqual(road("", "segno [:", "1 :]", "2 fine=yes", "", "dalsegno=segno"), "1 2 3 2 4 5 6 2 4")

    def test_dal_segno_al_coda(self):
        self.assertEqual(road("", "segno", "tocoda=coda", "", "dalsegno=segno", "coda", ""), "1 2 3 4 5 2 3 6 7")

    def test_two_signs_and_two_codas_each_of_its_own(self):
        first = ("segno", "tocoda=coda", "dalsegno=segno", "coda")
        second = ("segno", "tocoda=coda", "dalsegno=segno", "coda", "")
        self.assertEqual(road(*first, *second), "1 2 3 1 2 4 5 6 7 5 6 8 9")

    def test_words_alone_say_the_road(self):
        self.assertEqual(road("", '"Fine"', "", '"D.C."'), "1 2 3 4 1 2")
        self.assertEqual(road("", "segno", '"Fine"', '"D.S."'), "1 2 3 4 2 3")
        self.assertEqual(road("", "segno", '"dolce"', '"Finely"', ""), "1 2 3 4 5")

    def test_a_jump_whose_sign_is_outside_the_passage_is_not_followed(self):
        bars = ("segno", "", "", "dalsegno=segno", "")
        self.assertEqual(road(*bars), "1 2 3 4 1 2 3 4 5")
        self.assertEqual(road(*bars, passage="2-5"), "2 3 4 5")
        self.assertEqual(road("", "", "dacapo=yes", passage="2-3"), "2 3")

    def test_a_mark_without_a_jump_means_nothing(self):
        self.assertEqual(road("", "fine=yes", "tocoda=coda", "", "coda"), "1 2 3 4 5")

    def test_signs_in_the_first_part_hold_for_all(self):
        both = score(["[:", "1 :]", "2", "dacapo=yes"], ["", "", "", ""])
        lengths = [len(expect(part).notes) for part in both.parts]
        self.assertEqual(lengths, [8, 8])

    def test_the_same_roads_in_plain_text(self):
        def letters(text: str) -> str:
            [found] = scores("X:1\nT:t\nM:4/4\nL:1/1\nK:C\n" + text)
            return "".join(n.written_pitch[0] for n in expect(found.parts[0]).notes)

        self.assertEqual(letters("C |1 D :|2 E |: F |1 G :|2 A |]"), "CDCEFGFA")
        self.assertEqual(letters("|: C |1,2 D :|3 E |]"), "CDCDCE")
        self.assertEqual(letters("C | D !fine! | E !D.C.alfine! |]"), "CDECD")
        self.assertEqual(letters("C | !segno! D !dacoda! | E !D.S.alcoda! | !coda! F |]"), "CDEDF")
        self.assertEqual(letters('C | D "^Fine" | E "^D.C. al Fine" |]'), "CDECD")
