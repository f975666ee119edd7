"""Is what a score says read right? A public corpus of varied scores, read by us and by somebody else.

    bench/import                 about 300 MusicXML scores and 300 ABC tunes of the corpus inside music21
    bench/import --share 0.2     a fifth of them;  --all: every one (an hour)
    bench/import --only abc      one format: musicxml, abc
    bench/import --said          every score that differs, and how
    bench/import --write         refreshes its part of docs/benchmarks.md

Counted: scores read without error; notes whose onset (for MusicXML within its bar, bars counted as played) and sounding pitch, repeats
unfolded, are also the independent reader's (music21 for MusicXML; verovio for ABC, or, note by note as written, verovio or music21);
notes whose id is in the engraving. The last line is one JSON object; exits 1 below a floor.
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import sys
import threading
import time
import warnings
from bisect import bisect_right
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

from report import close  # noqa: E402

from didactor.core.errors import CoreError  # noqa: E402
from didactor.core.score.expected import expect  # noqa: E402
from didactor.core.score.model import Score  # noqa: E402
from didactor.core.score.read.abc import abc_to_musicxml, tunes_in  # noqa: E402
from didactor.core.score.read.musicxml import prepare, read  # noqa: E402
from didactor.core.score.write.engraving import engrave  # noqa: E402

MUSICXML, ABC = 300, 300
#: Onsets are compared in parts of a quarter.
GRID = 48
#: And bars are that far apart.
BAR = 100_000
LONGEST_BYTES = 1_500_000
PATIENCE_S = 25
FORMATS = ("musicxml", "abc")


@dataclass
class Reading:
    """What became of one score."""

    name: str
    format: str
    ok: bool = True
    compared: bool = False
    notes: int = 0
    same: int = 0
    ids: int = 0
    engraved: int = 0
    seconds: float = 0.0
    folded: bool = False
    said: list[str] = field(default_factory=list)


def main() -> int:
    parser = argparse.ArgumentParser()
    for flag in ("--all", "--said", "--write"):
        parser.add_argument(flag, action="store_true")
    parser.add_argument("--share", type=float, default=1.0)
    parser.add_argument("--only", choices=FORMATS)
    options = parser.parse_args()
    jobs = [job for form in FORMATS if options.only in (None, form) for job in corpus(form, options)]
    started = time.monotonic()
    with ThreadPoolExecutor(os.cpu_count()) as threads:
        readings = []
        for number, reading in enumerate(threads.map(Patient(), jobs), start=1):
            readings.append(reading)
            if number % 50 == 0:
                print(f"  {number} of {len(jobs)}, {time.monotonic() - started:.0f} s", file=sys.stderr, flush=True)
    if options.said:
        for reading in sorted(readings, key=lambda r: r.name):
            for line in reading.said:
                print(f"  {reading.name}: {line}")
    rows, figures = [], {}
    for form in FORMATS:
        own = [r for r in readings if r.format == form]
        if own:
            row, found = summary(form, own)
            rows.append(row)
            figures |= found
    titles = ("", "scores", "read %", "compared", "as written only", "notes", "same onset and pitch %", "ids engraved %", "seconds a score")
    head = f"| {' | '.join(titles)} |\n{'|---' * len(titles)}|"
    return close("import", "\n".join([head, *rows]), figures, write=options.write and options.only is None)


def summary(form: str, own: list[Reading]) -> tuple[str, dict[str, float]]:
    read_ok, compared = [r for r in own if r.ok], [r for r in own if r.compared]
    notes, ids = sum(r.notes for r in compared), sum(r.ids for r in own)
    figures = {
        f"{form}_scores": len(own),
        f"{form}_read_percent": round(100 * len(read_ok) / len(own), 2),
        f"{form}_same_percent": round(100 * sum(r.same for r in compared) / max(notes, 1), 2),
        f"{form}_ids_percent": round(100 * sum(r.engraved for r in own) / max(ids, 1), 3),
    }
    seconds = sum(r.seconds for r in own) / len(own)
    values = [form, len(own), figures[f"{form}_read_percent"], len(compared), sum(r.folded for r in compared), notes]
    values += [figures[f"{form}_same_percent"], figures[f"{form}_ids_percent"], f"{seconds:.2f}"]
    return "| " + " | ".join(str(v) for v in values) + " |", figures


def corpus(form: str, options: argparse.Namespace) -> list[tuple[str, str, int]]:
    """(format, path, number of the tune in the file), spread over the whole corpus."""
    import music21

    root = Path(music21.__file__).parent / "corpus"
    suffixes = (".abc",) if form == "abc" else (".mxl", ".xml", ".musicxml")
    files = sorted(p for p in root.rglob("*") if p.suffix in suffixes and "license" not in p.name and p.stat().st_size < LONGEST_BYTES)
    found: list[tuple[str, str, int]] = []
    for path in files:
        if form == "abc":
            found += [(form, str(path), n) for n in range(len(tunes_in(path.read_text("utf-8", "replace"))))]
        else:
            found.append((form, str(path), 0))
    if options.all:
        return found
    wanted = int((ABC if form == "abc" else MUSICXML) * options.share)
    return found[:: max(1, len(found) // max(1, wanted))]


class Patient:
    """A process of its own for each thread, replaced when a score keeps it busy for ever or kills it.

    Our own reading comes first and by itself: what the other reader does is no merit or fault of ours.
    """

    def __init__(self) -> None:
        self._own = threading.local()

    def __call__(self, job: tuple[str, str, int]) -> Reading:
        reading = Reading(name=f"{Path(job[1]).parent.name}/{Path(job[1]).name}" + (f"#{job[2]}" if job[0] == "abc" else ""), format=job[0])
        try:
            reading = self._asked(read_ours, job, reading)
        except (TimeoutError, BrokenProcessPool) as error:
            reading.ok, reading.said = False, [f"our own reading: {_why(error)}"]
        if not reading.ok:
            return reading
        try:
            return self._asked(compared, job, reading)
        except (TimeoutError, BrokenProcessPool) as error:
            reading.said.append(f"the other reader: {_why(error)}")
            return reading

    def _asked(self, work: Callable[[tuple[str, str, int], Reading], Reading], job: tuple[str, str, int], reading: Reading) -> Reading:
        if not hasattr(self._own, "pool"):
            self._own.pool = ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("spawn"))
        try:
            return self._own.pool.submit(work, job, reading).result(PATIENCE_S)
        except (TimeoutError, BrokenProcessPool):
            for process in list(self._own.pool._processes.values()):
                process.kill()
            self._own.pool.shutdown(wait=False, cancel_futures=True)
            del self._own.pool
            raise


def _why(error: Exception) -> str:
    return f"no answer within {PATIENCE_S} s" if isinstance(error, TimeoutError) else "its process died"


def _read(job: tuple[str, str, int]) -> tuple[str, bytes, Score]:
    """The text of a tune (of ABC only), prepared MusicXML, and the score."""
    form, path, number = job
    text = tunes_in(Path(path).read_text("utf-8", "replace"))[number] if form == "abc" else ""
    prepared = prepare(abc_to_musicxml(text)[0] if form == "abc" else Path(path).read_bytes())
    return text, prepared, read(prepared)


def read_ours(job: tuple[str, str, int], reading: Reading) -> Reading:
    """Read and engraved by us alone."""
    started = time.monotonic()
    try:
        _, prepared, score = _read(job)
    except CoreError as error:
        reading.ok, reading.said = False, [f"not read: {error.message}"]
        return reading
    except Exception as error:
        reading.ok, reading.said = False, [f"failed: {type(error).__name__} {error}"]
        return reading
    reading.seconds = time.monotonic() - started
    check_ids(reading, prepared, score)
    return reading


def compared(job: tuple[str, str, int], reading: Reading) -> Reading:
    """Our reading against the independent one."""
    warnings.simplefilter("ignore")
    form, path, _ = job
    try:
        text, _, score = _read(job)
        # A bar that one part of a file has too short or too long would shift all that follows: onsets are compared within bars.
        theirs = by_verovio(text) if form == "abc" else by_music21(path, by_bar=True)
        compare(reading, ours(score, by_bar=form == "musicxml"), theirs)
        if form == "musicxml" and reading.same < reading.notes:
            # Music21 gives up on some road maps, and then unfolds nothing: such a score is compared as it is written.
            again = Reading(name=reading.name, format=form)
            compare(again, ours(score, unfolded=False, by_bar=True), by_music21(path, unfolded=False, by_bar=True))
            if again.same / max(again.notes, 1) > reading.same / max(reading.notes, 1):
                reading.notes, reading.same, reading.said, reading.folded = again.notes, again.same, again.said, True
        if form == "abc" and reading.same < reading.notes:
            # Verovio forgets signs within a bar, music21 repeats and lengths beside slurs: a written note is the same where either agrees.
            again = Reading(name=reading.name, format=form)
            other = together(by_music21(text, "abc", unfolded=False)) | together(by_verovio(text, unfolded=False))
            own = together(ours(score, unfolded=False))
            compare(again, [own], [Counter(dict.fromkeys(own & other, 1))])
            if again.same / max(again.notes, 1) > reading.same / max(reading.notes, 1):
                reading.notes, reading.same, reading.said = again.notes, again.same, again.said
    except Exception as error:
        reading.said.append(f"the other reader failed: {type(error).__name__} {str(error)[:100]}")
    return reading


def check_ids(reading: Reading, prepared: bytes, score: Score) -> None:
    for part in score.parts:
        try:
            drawn = set(engrave(prepared, part, list(part.bars), "desk").geometry["notes"])
        except CoreError as error:
            reading.said.append(f"part {part.index} not engraved: {error.message}")
            drawn = set()
        written = {n.id for n in part.notes}
        reading.ids += len(written)
        reading.engraved += len(written & drawn)
        if written - drawn:
            reading.said.append(
                f"part {part.index}: {len(written - drawn)} of {len(written)} notes not in the engraving, like {min(written - drawn)}"
            )


def ours(score: Score, unfolded: bool = True, by_bar: bool = False) -> list[Counter[tuple[int, int]]]:
    """Our notes as (onset, sounding pitch), a set for each part; ``by_bar``: the onset within the bar, bars counted as they are played."""
    result = []
    for part in score.parts:
        notes: Counter[tuple[int, int]] = Counter()
        if part.notes:
            order = None if unfolded else f"{part.bars[0].number}-{part.bars[-1].number}"
            expected = expect(part, order=order)
            starts = [bar.start_quarters for bar in expected.bars]
            for note in expected.notes:
                if note.grace or note.unpitched:
                    continue
                bar = bisect_right(starts, note.onset_quarters + 1e-6) - 1 if by_bar else 0
                begin = starts[bar] if by_bar else 0.0
                notes[bar * BAR + round((note.onset_quarters - begin) * GRID), note.sounding_midi] = 1
        result.append(notes)
    return result


def by_music21(source: str, form: str | None = None, unfolded: bool = True, by_bar: bool = False) -> list[Counter[tuple[int, int]]]:
    import music21

    parsed = music21.converter.parse(source, format=form) if form else music21.converter.parse(source, forceSource=True)
    result = []
    for part in parsed.parts:
        try:
            played = part.expandRepeats() if unfolded else part
        except Exception:
            played = part
        sounding = played.toSoundingPitch()
        notes: Counter[tuple[int, int]] = Counter()
        tied = sounding.stripTies(matchByPitch=True) if by_bar else sounding.flatten().stripTies(matchByPitch=True)
        for number, bar in enumerate(tied.getElementsByClass("Measure") if by_bar else [tied]):
            for element in bar.recurse().notes if by_bar else bar.notes:
                if element.duration.isGrace or isinstance(element, (music21.harmony.Harmony, music21.note.Unpitched)):
                    continue
                offset = element.getOffsetInHierarchy(bar) if by_bar else element.offset
                for pitch in element.pitches:
                    notes[number * BAR + round(float(offset) * GRID), round(pitch.ps)] = 1
        result.append(notes)
    return result


def together(parts: list[Counter[tuple[int, int]]]) -> Counter[tuple[int, int]]:
    found: Counter[tuple[int, int]] = Counter()
    for notes in parts:
        found |= notes
    return found


def by_verovio(text: str, unfolded: bool = True) -> list[Counter[tuple[int, int]]]:
    import verovio

    toolkit = verovio.toolkit()
    verovio.enableLog(verovio.LOG_OFF)
    toolkit.setOptions({"inputFrom": "abc", "expandNever": not unfolded})
    if not toolkit.loadData(text):
        raise ValueError("not loaded")
    toolkit.renderToMIDI()
    notes: Counter[tuple[int, int]] = Counter()
    for entry in toolkit.renderToTimemap():
        for name in entry.get("on", []):
            if toolkit.getElementAttr(toolkit.getNotatedIdForElement(name)).get("grace"):
                continue
            notes[round(entry["qstamp"] * GRID), int(toolkit.getMIDIValuesForElement(name)["pitch"])] = 1
    return [notes]


def compare(reading: Reading, own: list[Counter[tuple[int, int]]], theirs: list[Counter[tuple[int, int]]]) -> None:
    if reading.format == "abc":
        own = [together(own)]
    # Parts without pitched notes (a drum) may be left out by one of them.
    own, theirs = [n for n in own if n], [n for n in theirs if n]
    if len(own) != len(theirs):
        own, theirs = [together(own)], [together(theirs)]  # music21 makes two parts of two staves
    reading.compared = True
    for index in range(max(len(own), len(theirs))):
        a = own[index] if index < len(own) else Counter()
        b = theirs[index] if index < len(theirs) else Counter()
        same = sum((a & b).values())
        total = max(sum(a.values()), sum(b.values()))
        reading.notes += total
        reading.same += same
        if same < total:
            only_a, only_b = sorted(a - b), sorted(b - a)
            reading.said.append(
                f"part {index + 1}: {same} of {total} notes the same ({sum(a.values())} ours, {sum(b.values())} theirs); first ours alone "
                f"{_place(only_a)}, first theirs alone {_place(only_b)}"
            )


def _place(notes: list[tuple[int, int]]) -> str:
    return f"{notes[0][1]} at {notes[0][0] // BAR} + {notes[0][0] % BAR / GRID:g}" if notes else "none"


if __name__ == "__main__":
    sys.exit(main())
