"""What the band handed in, and ten weeks of two students: loaded after the demo's first pages are there."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from didactor.demo.scenario import DemoTake

#: What the band hands in of its scale: most of the brass are late into the turn, and one takes a wrong step.
_LATE = {"kind": "late", "bar": "2", "beat": 3.0, "ms": 210}
BAND_TAKES: dict[str, DemoTake] = {
    "Sunna Ravnfell": DemoTake(seed=201, work_on="The turn at the top"),
    "Aksel Thornby": DemoTake(
        seed=202, work_on="The turn at the top", faults=[{"kind": "wrong", "bar": "5", "beat": 1.0, "semitones": -1}]
    ),
    "Bryndis Kolgrim": DemoTake(seed=203, work_on="The turn at the top", room="classroom"),
    "Corin Hallvard": DemoTake(seed=204, work_on="The turn at the top", faults=[{"kind": "tempo", "factor": 0.9}]),
    "Dagny Ekerholt": DemoTake(seed=205, work_on="The turn at the top", faults=[_LATE]),
    "Edda Strandvik": DemoTake(
        seed=206, work_on="The turn at the top", faults=[_LATE, {"kind": "missed", "bar": "6", "beat": 1.0}], room="hall"
    ),
    "Finn Ormsby": DemoTake(seed=207, work_on="The turn at the top", faults=[_LATE]),
    "Gro Lindesund": DemoTake(
        seed=208, work_on="The turn at the top", faults=[_LATE, {"kind": "hesitation", "bar": "5", "beat": 0, "beats": 1.4}]
    ),
    "Hakon Sletter": DemoTake(seed=209, work_on="The turn at the top", room="classroom"),
}


@dataclass(frozen=True, kw_only=True)
class DemoPast:
    """A take of an earlier week, answered then."""

    name: str
    weeks_ago: int
    score: str
    bars: str
    title: str
    tempo: float
    take: DemoTake
    beat_unit: str = "quarter"


_PASSED = ("passed", "Passed: it holds.")
_AGAIN = ("once_more", "Once more, and listen to the place you marked.")


def _slip(bar: str, beat: float = 0.0) -> dict[str, Any]:
    return {"kind": "wrong", "bar": bar, "beat": beat, "semitones": 2}


def _pause(bar: str) -> dict[str, Any]:
    return {"kind": "hesitation", "bar": bar, "beat": 0, "beats": 1.5}


def _weeks(name: str, *weeks: tuple[str, str, str, float, str, list[dict[str, Any]], tuple[str, ...]]) -> tuple[DemoPast, ...]:
    """Score, bars, title, tempo, beat unit, faults, what the student marked; the first is the longest ago."""
    return tuple(
        DemoPast(
            name=name,
            weeks_ago=len(weeks) - k,
            score=score,
            bars=bars,
            title=title,
            tempo=tempo,
            beat_unit=unit,
            take=DemoTake(seed=300 + 17 * k, faults=faults, mend=mend, work_on="See the marks", answer=_AGAIN if faults else _PASSED),
        )
        for k, (score, bars, title, tempo, unit, faults, mend) in enumerate(weeks)
    )


HISTORY: tuple[DemoPast, ...] = (
    *_weeks(
        "Ylva Tarnholm",
        ("skerry-scale", "1-4", "Skerry Scale, first half", 60, "quarter", [_slip("2", 1.0), _pause("3")], ("notes",)),
        ("skerry-scale", "1-4", "Skerry Scale, first half, again", 60, "quarter", [_pause("3")], ("flow",)),
        ("skerry-scale", "1-4", "Skerry Scale, first half, faster", 66, "quarter", [], ()),
        ("weather-report", "1-4", "Weather Report, first line", 48, "dotted_quarter", [_slip("3", 1.5)], ("notes",)),
        ("weather-report", "1-4", "Weather Report, first line, again", 50, "dotted_quarter", [], ()),
        ("weather-report", "5-8", "Weather Report, second line", 50, "dotted_quarter", [_slip("7", 1.5), _pause("6")], ("rhythm",)),
        ("weather-report", "5-8", "Weather Report, second line, again", 52, "dotted_quarter", [_slip("7", 1.5)], ("notes",)),
        ("weather-report", "5-8", "Weather Report, second line, held", 54, "dotted_quarter", [], ()),
        ("weather-report", "9-12", "Weather Report, third line", 54, "dotted_quarter", [_pause("11")], ("flow",)),
        ("weather-report", "9-12", "Weather Report, third line, held", 56, "dotted_quarter", [], ()),
    ),
    *_weeks(
        "Nell Quarrie",
        ("two-lighthouses", "1-2", "Two Lighthouses, bars 1–2", 60, "quarter", [_slip("2")], ()),
        ("two-lighthouses", "1-4", "Two Lighthouses, first half", 60, "quarter", [{"kind": "hand", "ms": 80, "staff": 2}], ()),
        ("two-lighthouses", "1-4", "Two Lighthouses, first half, again", 66, "quarter", [], ()),
        ("two-lighthouses", "5-8", "Two Lighthouses, second half", 66, "quarter", [_slip("6"), _pause("7")], ("flow",)),
        ("two-lighthouses", "5-8", "Two Lighthouses, second half, again", 66, "quarter", [_slip("6")], ()),
        ("two-lighthouses", "5-8", "Two Lighthouses, second half, held", 69, "quarter", [], ()),
        ("barometer", "1-4", "Barometer, first line", 66, "quarter", [{"kind": "tempo", "factor": 1.15}], ("tempo",)),
        ("barometer", "1-4", "Barometer, first line, again", 69, "quarter", [], ()),
        ("barometer", "5-8", "Barometer, second line", 69, "quarter", [_slip("6", 1.5)], ("notes",)),
        ("barometer", "5-8", "Barometer, second line, held", 72, "quarter", [], ()),
    ),
)
