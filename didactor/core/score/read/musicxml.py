"""MusicXML in (3.x and 4.0, partwise; plain or compressed), treated as hostile.

``prepare`` gives every bar and note our own id and returns clean XML; ``read`` turns such XML into a ``Score``. The ids
are made of what a note is (part, bar, onset, voice, pitch), not of where it stands in the file, so they survive a new
export of the same music and an edit elsewhere. Entities are refused, nothing is fetched, and a compressed file may not
grow beyond ``MAX_XML_BYTES``.
"""

from __future__ import annotations

import io
import re
import zipfile
from contextlib import suppress
from copy import deepcopy
from dataclasses import replace
from fractions import Fraction

from lxml import etree

from didactor.core.errors import Problem, ScoreError
from didactor.core.score.model import Bar, Part, Score
from didactor.core.score.read.accidentals import print_accidentals
from didactor.core.score.read.formats import Format, Sample, register
from didactor.core.words import worded

MAX_XML_BYTES = 40 * 1024 * 1024
#: In all parts together.
MAX_NOTES = 100_000
#: Nobody plays a section more often.
MOST_TIMES = 9
MAX_ZIP_MEMBERS = 200
ZIP_MAGIC = b"PK\x03\x04"

Element = etree._Element


def parse(data: bytes) -> Element:
    """Bytes of a ``.musicxml``, ``.xml`` or ``.mxl`` file to the root of its tree.

    Raises:
        ScoreError: not XML, not MusicXML, a declared entity, or larger than allowed once unpacked.
    """
    if not data.strip():
        raise ScoreError("score.empty", worded("The file is empty. Export the score again as MusicXML and upload that file."))
    if data.startswith(ZIP_MAGIC):
        data = _unpack(data)
    if len(data) > MAX_XML_BYTES:
        raise ScoreError("score.too_large", worded("The score is larger than 40 MB. Split it into movements and try again."))
    if b"<!ENTITY" in data or b"<!ENTITY".decode().encode("utf-16-le") in data or "<!ENTITY".encode("utf-16-be") in data:
        raise ScoreError(
            "score.entities", worded("The file declares XML entities, which are not accepted. Export the score again as MusicXML.")
        )
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, dtd_validation=False, huge_tree=False, remove_comments=True
    )
    try:
        root = etree.fromstring(data, parser)
    except etree.XMLSyntaxError as error:
        line = getattr(error, "lineno", None)
        where = worded(" (line {line})", line=line) if line else ""
        raise ScoreError(
            "score.not_xml",
            worded(
                "The file is not MusicXML: it cannot be read as XML{where}. Export the score as MusicXML (.musicxml or .mxl).", where=where
            ),
        ) from error
    if root.tag == "score-timewise":
        raise ScoreError("score.timewise", worded("The score is stored timewise. Export it as partwise MusicXML, the usual kind."))
    if root.tag != "score-partwise":
        raise ScoreError(
            "score.not_musicxml", worded("The file is XML, but not a MusicXML score (it begins with <{tag}>).", tag=_plain(str(root.tag)))
        )
    return root


def _plain(text: str) -> str:
    return re.sub(r"[^\w:.-]", "", text)[:40]


def _unpack(data: bytes) -> bytes:
    """The score inside a compressed MusicXML file, never reading more than the allowed size."""
    broken = ScoreError("score.bad_zip", worded("The compressed score is damaged. Export it again, or export plain .musicxml."))
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            members = archive.infolist()
            if len(members) > MAX_ZIP_MEMBERS:
                raise ScoreError(
                    "score.bad_zip", worded("The compressed file holds far more than one score. Export a single score as .mxl.")
                )
            names = [member.filename for member in members]
            target = _rootfile(archive, names)
            if target is None:
                raise ScoreError("score.no_score_in_zip", worded("There is no MusicXML score in this compressed file."))
            return _read_bounded(archive, target)
    except (zipfile.BadZipFile, KeyError, EOFError, RuntimeError, OSError, zipfile.LargeZipFile) as error:
        raise broken from error
    except Exception as error:
        if isinstance(error, ScoreError):
            raise
        raise broken from error  # zlib reports damage in its own type


def _rootfile(archive: zipfile.ZipFile, names: list[str]) -> str | None:
    if "META-INF/container.xml" in names:
        container = _read_bounded(archive, "META-INF/container.xml", 1024 * 1024)
        match = re.search(rb'full-path="([^"]+)"', container)
        if match and match.group(1).decode("utf-8", "replace") in names:
            return match.group(1).decode("utf-8", "replace")
    candidates = [n for n in names if n.lower().endswith((".xml", ".musicxml")) and not n.startswith("META-INF")]
    return candidates[0] if candidates else None


def _read_bounded(archive: zipfile.ZipFile, name: str, limit: int = MAX_XML_BYTES) -> bytes:
    with archive.open(name) as member:
        data = member.read(limit + 1)
    if len(data) > limit:
        raise ScoreError(
            "score.too_large", worded("The compressed score unpacks to more than 40 MB, which no score needs. It was not opened.")
        )
    return data


def prepare(data: bytes) -> bytes:
    """Clean MusicXML with an ``id`` on every measure and note; the input of ``read`` and of the engraver.

    Doctype, stylesheets and links are dropped. Raises ``ScoreError`` as ``parse`` does.
    """
    root = parse(data)
    for tag in ("link", "bookmark"):
        for element in list(root.iter(tag)):
            parent = element.getparent()
            if parent is not None:
                parent.remove(element)
    for repeat in root.iter("repeat"):
        # An engraver unfolds what it is told to: a thousand million times takes for ever.
        if (times := repeat.get("times")) is not None:
            repeat.set("times", _bounded_times(times.strip()))
    for element in root.iter():
        if "id" in element.attrib and element.tag not in ("part", "score-part", "score-instrument", "midi-instrument", "midi-device"):
            del element.attrib["id"]
    if sum(1 for _ in root.iter("note")) > MAX_NOTES:
        raise ScoreError(
            "score.too_long", worded("The score has more than {max_notes} notes. Split it and try again.", max_notes=MAX_NOTES)
        )
    parts = root.findall("part")
    if not parts:
        raise ScoreError("score.no_parts", worded("The score has no parts: there is nothing to play in it."))
    for part_number, part in enumerate(parts, start=1):
        _begin_with_attributes(part)
        try:
            _identify(part, part_number)
        except (ValueError, ZeroDivisionError, OverflowError) as error:
            raise ScoreError(
                "score.bad_values",
                worded("Part {part_number} of the score holds values that make no sense. Export it again.", part_number=part_number),
            ) from error
        # Some programs write only what sounds; a reader needs the signs all the same.
        if part.find("measure/note/accidental") is None:
            with suppress(ValueError, KeyError, OverflowError):  # values that make no sense are told when they are read
                print_accidentals(part)
    return etree.tostring(root, xml_declaration=True, encoding="UTF-8")


def _bounded_times(text: str) -> str:
    if not re.fullmatch(r"[0-9]+", text):
        return "2"
    return str(max(1, min(MOST_TIMES, int(text[:4]))))


def _begin_with_attributes(part: Element) -> None:
    """Clef, key, metre and divisions stand in the first bar, where an engraver looks for them, though a file gives them later."""
    measures = part.findall("measure")
    if not measures or measures[0].find("attributes/divisions") is not None:
        return
    later = next((a for measure in measures for a in measure.findall("attributes") if a.find("divisions") is not None), None)
    if later is not None:
        measures[0].insert(0, deepcopy(later))


def _identify(part: Element, part_number: int) -> None:
    taken: set[str] = set()

    def unique(stem: str) -> str:
        name, count = stem, 2
        while name in taken:
            name, count = f"{stem}.{count}", count + 1
        taken.add(name)
        return name

    divisions = Fraction(1)
    for measure in part.findall("measure"):
        number = re.sub(r"[^\w-]", "", measure.get("number", "")) or "x"
        bar_id = unique(f"b{part_number}-{number}")
        measure.set("id", bar_id)
        position, last_onset, graces = Fraction(0), Fraction(0), 0
        for element in measure:
            if element.tag == "attributes" and element.findtext("divisions"):
                divisions = Fraction(element.findtext("divisions", "1").strip() or 1) or Fraction(1)
            elif element.tag in ("backup", "forward"):
                shift = Fraction(element.findtext("duration", "0").strip() or 0) / divisions
                if element.tag == "backup" and shift > position:
                    # Before the bar's beginning there is nothing: some programs go back too far, and engravers die of it.
                    shift = position
                    _set_duration(element, shift * divisions)
                position += shift if element.tag == "forward" else -shift
            elif element.tag == "note":
                duration = Fraction(element.findtext("duration", "0").strip() or 0) / divisions
                onset = last_onset if element.find("chord") is not None else position
                what = _what(element)
                if element.find("grace") is not None:
                    graces += 1
                    what = f"g{graces}{what}"
                else:
                    graces = 0
                voice = re.sub(r"\W", "", element.findtext("voice", "1")) or "1"
                place = f"{onset.numerator}" if onset.denominator == 1 else f"{onset.numerator}_{onset.denominator}"
                element.set("id", unique(f"n{part_number}-{number}-{place}-{voice}-{what}"))
                if element.find("chord") is None:
                    last_onset = position
                    position += duration


def _set_duration(element: Element, value: Fraction) -> None:
    duration = element.find("duration")
    if duration is not None:
        duration.text = str(value.numerator) if value.denominator == 1 else f"{float(value):.6f}"


def _what(note: Element) -> str:
    pitch = note.find("pitch")
    if pitch is None:
        return "rest" if note.find("rest") is not None else "stroke"
    alter = int(float(pitch.findtext("alter", "0").strip() or 0))
    sign = {-2: "ff", -1: "f", 0: "", 1: "s", 2: "x"}.get(alter, "")
    return f"{pitch.findtext('step', 'C').strip()}{sign}{pitch.findtext('octave', '4').strip()}"


def read(data: bytes) -> Score:
    """Prepared MusicXML to a ``Score``. Raises ``ScoreError`` where the music cannot be understood."""
    from didactor.core.score.read.musicxml_parts import read_part

    root = parse(data)
    names = {entry.get("id", ""): entry for entry in root.findall("part-list/score-part")}
    parts: list[Part] = []
    contents: list[list[float]] = []
    problems: list[Problem] = []
    for index, part in enumerate(root.findall("part"), start=1):
        entry = names.get(part.get("id", ""))
        try:
            result, trouble, filled = read_part(part, entry, index)
        except (ValueError, ZeroDivisionError, KeyError, OverflowError) as error:
            raise ScoreError(
                "score.bad_values",
                worded("Part {index} of the score holds values that make no sense. Export it again.", index=index),
            ) from error
        parts.append(result)
        contents.append(filled)
        problems.extend(trouble)
    title = root.findtext("work/work-title") or root.findtext("movement-title") or ""
    composer = next((c.text or "" for c in root.findall("identification/creator") if c.get("type") == "composer"), "")
    return Score(
        title=title.strip(),
        composer=composer.strip(),
        parts=tuple(_with_one_road(_as_long_as_the_fullest(parts, contents))),
        problems=tuple(problems),
    )


def _with_one_road(parts: list[Part]) -> list[Part]:
    """Repeats, endings, jumps and rehearsal marks hold for all parts, though many programs write them in the first alone."""
    if len(parts) < 2 or len({len(part.bars) for part in parts}) != 1:
        return parts
    roads = []
    for bars in zip(*(part.bars for part in parts), strict=True):
        roads.append(
            {
                "repeat_start": any(b.repeat_start for b in bars),
                "repeat_end": any(b.repeat_end for b in bars),
                "repeat_times": max(b.repeat_times for b in bars),
                "endings": next((b.endings for b in bars if b.endings), ()),
                "marks": tuple(dict.fromkeys(mark for b in bars for mark in b.marks)),
                "jump": next((b.jump for b in bars if b.jump), bars[0].jump),
                "rehearsal": next((b.rehearsal for b in bars if b.rehearsal), bars[0].rehearsal),
            }
        )
    return [replace(part, bars=tuple(replace(bar, **road) for bar, road in zip(part.bars, roads, strict=True))) for part in parts]


def _as_long_as_the_fullest(parts: list[Part], contents: list[list[float]]) -> list[Part]:
    """A bar with less in it than its metre (an upbeat, a repeat's end) is as long as the fullest part has it: others lack rests."""
    if len({len(part.bars) for part in parts}) != 1:
        return parts
    fullest = [max(filled) for filled in zip(*contents, strict=True)]
    return [
        replace(part, bars=tuple(_as_long_as(bar, own, most) for bar, own, most in zip(part.bars, filled, fullest, strict=True)))
        for part, filled in zip(parts, contents, strict=True)
    ]


def _as_long_as(bar: Bar, own: float, most: float) -> Bar:
    full = 4.0 * bar.beats / bar.beat_type
    length = own if own >= full else min(full, most) or full
    return bar if abs(length - bar.length_quarters) < 1e-9 else replace(bar, length_quarters=length)


def _recognises(sample: Sample) -> bool:
    return sample.data.startswith((ZIP_MAGIC, b"\xff\xfe", b"\xfe\xff")) or sample.head.startswith(b"<") or not sample.data.strip()


register(
    Format(
        title="MusicXML",
        suffixes=(".musicxml", ".xml", ".mxl"),
        place=10,
        recognises=_recognises,
        read=lambda sample: [(sample.data, [])],
    )
)
