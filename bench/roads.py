"""Is a score played in the order that is printed? Roads built from a grammar that says their order, read back as MusicXML and ABC.

    bench/roads            50 roads of every kind of block and jump, 200 drawn from them; --write refreshes docs/benchmarks.md
    bench/roads --said     every road that is read otherwise

A road is blocks one after the other (bars; bars repeated two or three times; bars with endings, each for one or more times) and perhaps
a jump back: to the beginning or to a sign, to the end, to *Fine*, or over to a coda. After a jump nothing is repeated and only the last
endings are played. The order is spelled out while the road is built and shares nothing with the reader under test. ABC is written
for roads without jumps.
"""

from __future__ import annotations

import argparse
import itertools
import random
import sys
from dataclasses import dataclass, field
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

from report import close  # noqa: E402

from didactor.core.errors import CoreError  # noqa: E402
from didactor.core.score.expected import expect  # noqa: E402
from didactor.core.score.read.formats import to_musicxml  # noqa: E402
from didactor.core.score.read.musicxml import prepare, read  # noqa: E402

JUMPS = ("", "da capo", "da capo al fine", "dal segno", "dal segno al fine", "dal segno al coda", "da capo al coda")
SEED = 20_261


@dataclass
class Bar:
    """One bar with what is printed at it. ``ending`` are the times it is for; empty outside endings."""

    opens: bool = False
    closes: int = 0
    ending: tuple[int, ...] = ()
    ending_begins: bool = False
    ending_stops: bool = False
    segno: bool = False
    fine: bool = False
    to_coda: bool = False
    coda: bool = False
    jump: str = ""


@dataclass
class Road:
    bars: list[Bar] = field(default_factory=list)
    #: Bars (from 1) in the order of playing, and as they are played after a jump.
    order: list[int] = field(default_factory=list)
    once: list[int] = field(default_factory=list)
    blocks: list[tuple[int, int]] = field(default_factory=list)
    kind: str = ""

    def add(self, block: str, length: int, rng: random.Random) -> None:
        first = len(self.bars) + 1
        inside = list(range(first, first + length))
        if block == "plain":
            self.bars += [Bar() for _ in inside]
            self.order += inside
            self.once += inside
        elif block in ("twice", "thrice"):
            times = 2 if block == "twice" else 3
            own = [Bar() for _ in inside]
            own[0].opens, own[-1].closes = True, times
            self.bars += own
            self.order += inside * times
            self.once += inside
        else:
            groups = {"endings": [(1,), (2,)], "listed": [(1, 2), (3,)], "three": [(1,), (2,), (3,)]}[block]
            body = [Bar() for _ in inside]
            body[0].opens = True
            self.bars += body
            ends: dict[int, list[int]] = {}
            for number, group in enumerate(groups):
                size = rng.randint(1, 2)
                at = list(range(len(self.bars) + 1, len(self.bars) + 1 + size))
                own = [Bar(ending=group) for _ in at]
                own[0].ending_begins = own[-1].ending_stops = True
                if number < len(groups) - 1:
                    own[-1].closes = max(2, len(group) + 1) if len(groups) == 2 else 2
                self.bars += own
                ends |= dict.fromkeys(group, at)
            for time in sorted(ends):
                self.order += inside + ends[time]
            self.once += inside + ends[max(ends)]
        self.blocks.append((first, len(self.bars)))

    def jump(self, kind: str, rng: random.Random) -> bool:
        """A bar that sends back; False where the road has no place for what it needs."""
        plain = [b for b in self.blocks if all(not x.ending and not x.opens and not x.closes for x in self.bars[b[0] - 1 : b[1]])]
        self.kind = kind
        if not kind:
            return True
        begin = 1
        if "segno" in kind:
            begin = rng.choice(self.blocks)[0]
            self.bars[begin - 1].segno = True
        stops = [b[1] for b in plain if b[1] >= begin]
        if ("fine" in kind or "coda" in kind) and not stops:
            return False
        self.bars.append(Bar(jump="dalsegno" if "segno" in kind else "dacapo"))
        last = len(self.bars)
        played = [*self.order, last]
        again = [*(b for b in self.once if b >= begin), last]
        if "fine" in kind:
            stop = rng.choice(stops)
            self.bars[stop - 1].fine = True
            again = again[: again.index(stop) + 1]
        elif "coda" in kind:
            stop = rng.choice(stops)
            self.bars[stop - 1].to_coda = True
            size = rng.randint(1, 3)
            self.bars += [Bar(coda=k == 0) for k in range(size)]
            again = again[: again.index(stop) + 1] + list(range(last + 1, last + 1 + size))
        self.order = played + again
        return True


def roads() -> list[Road]:
    rng = random.Random(SEED)
    blocks = ("plain", "twice", "thrice", "endings", "listed", "three")
    found: list[Road] = []
    for jump, (one, two) in itertools.product(JUMPS, itertools.product(blocks, repeat=2)):
        if len(found) == 50:
            break
        road = Road()
        for block in ("plain", one, two):
            road.add(block, rng.randint(1, 2), rng)
        if (hash_of(one, two, jump) % 5 == 0 or not jump) and road.jump(jump, rng):
            found.append(road)
    while len(found) < 250:
        road = Road()
        for _ in range(rng.randint(1, 5)):
            road.add(rng.choice(blocks), rng.randint(1, 3), rng)
        if road.jump(rng.choice(JUMPS), rng):
            found.append(road)
    return found


def hash_of(*words: str) -> int:
    return sum(ord(c) * (k + 1) for k, c in enumerate("".join(words)))


def as_musicxml(road: Road) -> bytes:
    measures = []
    for number, bar in enumerate(road.bars, start=1):
        left = '<repeat direction="forward"/>' if bar.opens else ""
        if bar.ending_begins:
            left = f'<ending number="{",".join(map(str, bar.ending))}" type="start"/>' + left
        right = f'<ending number="{",".join(map(str, bar.ending))}" type="stop"/>' if bar.ending_stops else ""
        if bar.closes:
            right += f'<repeat direction="backward" times="{bar.closes}"/>' if bar.closes > 2 else '<repeat direction="backward"/>'
        before = "".join(
            f'<direction><direction-type><{sign}/></direction-type><sound {sign}="{sign}"/></direction>'
            for sign in ("segno", "coda")
            if getattr(bar, sign)
        )
        after = "".join(
            f'<direction><direction-type><words>{words}</words></direction-type><sound {name}="{value}"/></direction>'
            for name, words, value, on in (
                ("fine", "Fine", "yes", bar.fine),
                ("tocoda", "To Coda", "coda", bar.to_coda),
                ("dacapo", "D.C.", "yes", bar.jump == "dacapo"),
                ("dalsegno", "D.S.", "segno", bar.jump == "dalsegno"),
            )
            if on
        )
        attributes = "<attributes><divisions>1</divisions><time><beats>4</beats><beat-type>4</beat-type></time></attributes>" * (
            number == 1
        )
        note = "<note><pitch><step>C</step><octave>5</octave></pitch><duration>4</duration><type>whole</type></note>"
        lines = [f'<barline location="{side}">{text}</barline>' if text else "" for side, text in (("left", left), ("right", right))]
        measures.append(f'<measure number="{number}">{lines[0]}{attributes}{before}{note}{after}{lines[1]}</measure>')
    listing = '<part-list><score-part id="P1"><part-name>Flute</part-name></score-part></part-list>'
    return f'<score-partwise>{listing}<part id="P1">{"".join(measures)}</part></score-partwise>'.encode()


def as_abc(road: Road) -> bytes:
    text = "X:1\nT:Road\nM:4/4\nL:1/1\nK:C\n"
    for bar in road.bars:
        text += "|: " if bar.opens else ""
        text += f"[{','.join(map(str, bar.ending))} " if bar.ending_begins else ""
        text += "c "
        text += ":| " if bar.closes else "| "
    return text.encode()


def order_of(xml: bytes) -> list[int]:
    return [int(bar.number) for bar in expect(read(prepare(xml)).parts[0]).bars]


def main() -> int:
    parser = argparse.ArgumentParser()
    for flag in ("--said", "--write"):
        parser.add_argument(flag, action="store_true")
    options = parser.parse_args()
    counts: dict[str, list[int]] = {}
    for road in roads():
        ways = {"MusicXML": lambda road=road: order_of(as_musicxml(road))}
        if not road.kind and not any(bar.closes > 2 for bar in road.bars):
            ways["ABC"] = lambda road=road: order_of(to_musicxml(as_abc(road))[0][0])
        for way, reading in ways.items():
            try:
                found = reading()
            except CoreError as error:
                found = [error.message]
            row = counts.setdefault(f"{way}: {road.kind or 'no jump'}", [0, 0])
            row[0] += 1
            row[1] += found == road.order
            if options.said and found != road.order:
                print(way, road.kind, road.bars, "\n   due ", road.order, "\n   read", found)
    rows = ["| | roads | in the printed order |", "|---|---|---|"]
    rows += [f"| {name} | {n} | {right} |" for name, (n, right) in sorted(counts.items())]
    every, right = (sum(row[k] for row in counts.values()) for k in (0, 1))
    figures = {"roads": every, "right_percent": round(100 * right / every, 2)}
    return close("roads", "\n".join(rows), figures, write=options.write)


if __name__ == "__main__":
    sys.exit(main())
