"""The Tern Sound music post: a teacher on the mainland, students on weather stations, lighthouses and ferries.

Everything here is invented. ``TAKES`` are played by the simulated player with the faults listed and then heard by the real
pipeline, so that every number on screen is computed from sound. Notes are counted from 0 in performed order.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

WEEK_NOTE = "The ferry brings the new reeds on Thursday. Until then: slowly, and listen before you send."
STUDIO = "Tern Sound music post"
TEACHER = ("hedda", "Hedda Storrvik")
GROUP = "Outer Skerries"
BAND, STRINGS = "Grindhaven band", "Grindhaven strings"

#: Name, instrument, level, group, minor's guardian.
STUDENTS: tuple[tuple[str, str, str, str, str], ...] = (
    ("Ylva Tarnholm", "flute", "intermediate", GROUP, ""),
    ("Ossian Brannagh", "violin", "elementary", GROUP, "Runa Brannagh"),
    ("Mirre Falkesund", "clarinet", "intermediate", "", ""),
    ("Tobin Skaife", "horn", "elementary", "", ""),
    ("Inge Vadholm", "cello", "intermediate", "", ""),
    ("Paavo Lindskar", "guitar", "beginner", "", ""),
    ("Nell Quarrie", "piano", "elementary", GROUP, ""),
    ("Sunna Ravnfell", "flute", "beginner", BAND, ""),
    ("Aksel Thornby", "clarinet", "beginner", BAND, ""),
    ("Bryndis Kolgrim", "clarinet", "elementary", BAND, ""),
    ("Corin Hallvard", "alto-saxophone", "beginner", BAND, ""),
    ("Dagny Ekerholt", "trumpet", "beginner", BAND, ""),
    ("Edda Strandvik", "horn", "elementary", BAND, ""),
    ("Finn Ormsby", "trombone", "beginner", BAND, ""),
    ("Gro Lindesund", "tuba", "elementary", BAND, ""),
    ("Hakon Sletter", "percussion", "beginner", BAND, ""),
    ("Isolde Marwick", "violin", "beginner", STRINGS, ""),
    ("Jory Penhallam", "viola", "elementary", STRINGS, ""),
    ("Kaia Soltvedt", "cello", "beginner", STRINGS, ""),
    ("Leif Garrick", "double-bass", "elementary", STRINGS, ""),
    ("Wren Askeland", "piano", "beginner", GROUP, "Sela Askeland"),
)


@dataclass(frozen=True, kw_only=True)
class DemoExercise:
    """An exercise made here and given to a whole group."""

    kind: str
    choices: dict[str, Any]
    group: str
    tempo: float
    title: str
    due_days: int = 5


EXERCISES = (
    DemoExercise(
        kind="scale",
        choices={"tonic": "Bb", "octaves": 1, "rhythm": "quarters", "halved": True},
        group=BAND,
        tempo=80,
        title="B flat major, quarters, then eighths",
    ),
    DemoExercise(
        kind="rhythm", choices={"level": "elementary", "bars": 8, "seed": 4}, group=STRINGS, tempo=72, title="Rhythm no. 4: count and clap"
    ),
)


@dataclass(frozen=True, kw_only=True)
class DemoTake:
    """One recording: faults, its own listener's words, and what became of it."""

    faults: list[dict[str, Any]] = field(default_factory=list)
    room: str = "bedroom"
    seed: int = 1
    mend: tuple[str, ...] = ()
    pins: tuple[tuple[str, str, str], ...] = ()
    work_on: str = ""
    submitted: bool = True
    answer: tuple[str, str] | None = None
    kept: int = 9
    draft: bool = False


@dataclass(frozen=True, kw_only=True)
class DemoAddition:
    """What the teacher adds to one note of the passage; ``beat`` in quarters from the bar's beginning."""

    bar: str
    beat: float
    fields: dict[str, Any]


#: Who gets letters (to the mailbox of the demo, which keeps them).
WITH_AN_ADDRESS = ("Ylva Tarnholm", "Mirre Falkesund", "Tobin Skaife", "Nell Quarrie")
#: Who does not read notes yet, and the colours of the stickers on their keys.
NOT_READING_YET = ("Wren Askeland",)
NOTE_COLOURS = {"C": "red", "D": "orange", "E": "yellow", "F": "green", "G": "blue"}


@dataclass(frozen=True, kw_only=True)
class DemoReference:
    """The teacher's own playing of a passage: sound, or a film of a drawn hand that beats time."""

    title: str
    film: bool = False
    seed: int = 1
    tempo_share: float = 0.92


@dataclass(frozen=True, kw_only=True)
class DemoAttempt:
    """One go at a stone, or at the exercise that was proposed for it (``remedy``)."""

    days_ago: int
    stone: str
    faults: tuple[dict[str, Any], ...] = ()
    remedy: bool = False


#: Where it goes wrong again and again.
_LEAP = ({"kind": "wrong", "bar": "5", "beat": 1.5, "semitones": -2},)

#: Three days: two stones and their join are won, the third fails at every tempo.
PRACTISED: tuple[DemoAttempt, ...] = (
    DemoAttempt(days_ago=2, stone="1-2"),
    DemoAttempt(days_ago=2, stone="1-2", faults=({"kind": "wrong", "bar": "2", "beat": 1.5, "semitones": 2},)),
    *(DemoAttempt(days_ago=2, stone="1-2") for _ in range(3)),
    *(DemoAttempt(days_ago=2, stone="3-4") for _ in range(2)),
    DemoAttempt(days_ago=1, stone="3-4"),
    DemoAttempt(days_ago=1, stone="2|3", faults=({"kind": "missed", "bar": "3", "beat": 0.5},)),
    *(DemoAttempt(days_ago=1, stone="2|3") for _ in range(3)),
    *(DemoAttempt(days_ago=1, stone="5-6", faults=_LEAP) for _ in range(2)),
    DemoAttempt(days_ago=0, stone="1-2"),
    DemoAttempt(days_ago=0, stone="5-6", faults=_LEAP),
    *(DemoAttempt(days_ago=0, stone="5-6", faults=_LEAP, remedy=True) for _ in range(3)),
)


@dataclass(frozen=True, kw_only=True)
class DemoGo:
    """One go at a drill: the first of its ``kind`` that the passage offers."""

    kind: str
    faults: tuple[dict[str, Any], ...] = ()


#: The change to the second chord comes late, and less so from go to go.
DRILLED: tuple[DemoGo, ...] = tuple(
    DemoGo(kind="chords", faults=tuple({"kind": "late", "note": k, "ms": ms} for k in (1, 3, 5, 7))) for ms in (520, 430, 250)
)
#: Who reads at sight by themselves: for each line, days ago, and at which quarters of it they stop.
READ_AT_SIGHT: dict[str, tuple[tuple[int, tuple[int, ...]], ...]] = {
    "Ylva Tarnholm": ((9, ()), (8, (1, 2, 3)), (2, ()), (1, (2,))),
}


@dataclass(frozen=True, kw_only=True)
class DemoAssignment:
    """A passage with targets, for one student or a group, and the takes that came back, by student."""

    score: str
    bars: str
    title: str
    students: tuple[str, ...]
    tempo: float
    beat_unit: str = "quarter"
    stage: str = "at_tempo"
    due_days: int = 3
    instructions: str = ""
    takes: dict[str, tuple[DemoTake, ...]] = field(default_factory=dict)
    takes_allowed: int | None = None
    students_see: str = "marks"
    step: str = "play"
    before_steps: tuple[str, ...] = ()
    series: str = ""
    segments: str = ""
    added: tuple[DemoAddition, ...] = ()
    played: tuple[DemoReference, ...] = ()
    accompaniment: tuple[int, int] | None = None
    minutes: int | None = None
    place: int | None = None
    practised: dict[str, tuple[DemoAttempt, ...]] = field(default_factory=dict)
    drilled: dict[str, tuple[DemoGo, ...]] = field(default_factory=dict)
    fast_tempo: int | None = None
    rehearsal_days: int | None = None
    left: dict[str, DemoTake] = field(default_factory=dict)


ASSIGNMENTS: tuple[DemoAssignment, ...] = (
    DemoAssignment(
        score="weather-report",
        bars="1-12",
        title="Weather Report, whole",
        students=("Ylva Tarnholm",),
        tempo=60,
        beat_unit="dotted_quarter",
        instructions="The swell should roll on through the rests: count bars 4 and 8 aloud.",
        students_see="figures",
        played=(DemoReference(title="As I play it", seed=5), DemoReference(title="How I beat it", film=True, seed=6, tempo_share=0.85)),
        minutes=10,
        place=1,
        practised={"Ylva Tarnholm": PRACTISED},
        left={"Ylva Tarnholm": DemoTake(seed=12, faults=[{"kind": "wrong", "bar": "7", "beat": 1.5, "semitones": 2}])},
        takes={
            "Ylva Tarnholm": (
                DemoTake(
                    seed=11,
                    faults=[
                        {"kind": "wrong", "bar": "7", "beat": 1.5, "semitones": 2},
                        {"kind": "late", "bar": "10", "beat": 1.5, "ms": 170},
                        {"kind": "hesitation", "bar": "11", "beat": 0, "beats": 1.7},
                        {"kind": "detuned", "bar": "5", "beat": 1.5, "cents": -48},
                    ],
                    mend=("rhythm", "notes"),
                    pins=(("11", "flow", "I stop before the leap"), ("7", "notes", "something is off in the middle")),
                    work_on="Go into bar 11 without stopping",
                ),
            )
        },
    ),
    DemoAssignment(
        score="the-lamp-room",
        bars="1-8",
        title="The Lamp Room, first half",
        students=("Ossian Brannagh",),
        tempo=80,
        stage="steady",
        due_days=1,
        instructions="Slur the pairs of quavers. Any tempo you can hold.",
        takes={
            "Ossian Brannagh": (
                DemoTake(
                    seed=21,
                    faults=[
                        {"kind": "tempo", "factor": 0.85},
                        {"kind": "restart", "bar": "4", "beat": 0, "bars": 1},
                        {"kind": "missed", "bar": "5", "beat": 1.5},
                    ],
                    mend=("flow",),
                    pins=(("4", "flow", "I went back"),),
                    work_on="Not going back",
                    answer=(
                        "once_more",
                        "Good that you heard it yourself. When a note slips, let it go and meet me in the next bar. "
                        "Play bars 3 and 4 alone, five times, without going back.",
                    ),
                ),
                DemoTake(seed=22, faults=[{"kind": "tempo", "factor": 0.9}], submitted=False),
            )
        },
    ),
    DemoAssignment(
        score="relief-boat",
        bars="1-8",
        title="Relief Boat, bars 1–8",
        students=("Mirre Falkesund",),
        tempo=96,
        due_days=2,
        minutes=8,
        place=2,
        takes={
            "Mirre Falkesund": (
                DemoTake(
                    seed=31,
                    faults=[
                        {"kind": "wrong", "bar": "5", "beat": 1.0, "semitones": 1},
                        {"kind": "extra", "bar": "7", "beat": 0, "semitones": 2},
                        {"kind": "drift", "percent": 1.6},
                    ],
                    mend=("tempo",),
                    work_on="I think I get faster",
                    draft=True,
                ),
            )
        },
    ),
    DemoAssignment(
        score="ferry-at-six",
        bars="1-8",
        title="Ferry at Six",
        students=("Tobin Skaife",),
        tempo=80,
        due_days=-2,
        takes={
            "Tobin Skaife": (
                DemoTake(
                    seed=41,
                    work_on="Nothing much: the long notes",
                    answer=("passed", "That ferry arrives on time. Well counted through the long notes. Next week: Slack Water."),
                    room="hall",
                ),
            )
        },
    ),
    DemoAssignment(
        score="slack-water",
        bars="5-12",
        title="Slack Water, second half",
        students=("Inge Vadholm",),
        tempo=72,
        due_days=4,
        instructions="Listen to the open G before bar 11.",
        segments="5-6 7-8 9-10 11-12",
        added=(
            DemoAddition(bar="5", beat=0.0, fields={"fingering": "0", "remark": "Begin with the open string."}),
            DemoAddition(bar="7", beat=0.0, fields={"warning": "Lean on this note; nearly everybody hurries on."}),
            DemoAddition(bar="9", beat=2.0, fields={"alternatives": "F2", "optional": ""}),
            DemoAddition(bar="11", beat=2.0, fields={"fingering": "4", "warning": "F sharp: stretch, do not shift."}),
        ),
        takes={
            "Inge Vadholm": (
                DemoTake(
                    seed=51,
                    faults=[
                        {"kind": "detuned", "bar": "6", "beat": 1.0, "cents": 44},
                        {"kind": "detuned", "bar": "11", "beat": 2.0, "cents": -42},
                        {"kind": "missed", "bar": "9", "beat": 1.5},
                    ],
                    submitted=False,
                ),
            )
        },
    ),
    DemoAssignment(
        score="kelp-lines",
        bars="1-12",
        title="Kelp Lines",
        students=("Paavo Lindskar",),
        tempo=84,
        stage="first_reading",
        due_days=6,
        instructions="Only the notes this week. Stop as often as you like.",
    ),
    DemoAssignment(
        score="barometer",
        bars="1-12",
        title="Barometer",
        students=("Nell Quarrie",),
        tempo=76,
        due_days=1,
        takes={
            "Nell Quarrie": (
                DemoTake(
                    seed=71,
                    faults=[
                        {"kind": "tempo", "factor": 1.14},
                        {"kind": "wrong", "bar": "6", "beat": 1.5, "semitones": -2},
                        {"kind": "skip", "bar": "10", "beat": 0, "bars": 1},
                    ],
                    mend=("tempo",),
                    work_on="Too fast again, I know",
                ),
            )
        },
    ),
    DemoAssignment(
        score="two-lighthouses",
        bars="1-8",
        title="Two Lighthouses",
        students=("Nell Quarrie",),
        tempo=84,
        due_days=5,
        instructions="The left hand is the tide: it does not wait for the right. Bars 3 and 6 loud, the rest soft.",
        students_see="figures",
        takes={
            "Nell Quarrie": (
                DemoTake(
                    seed=91,
                    faults=[
                        {"kind": "hand", "ms": 75, "staff": 2},
                        {"kind": "wrong", "bar": "6", "beat": 0, "semitones": 2},
                        {"kind": "missed", "bar": "7", "beat": 2.5},
                    ],
                    mend=("hands",),
                    work_on="Left hand alone, then together",
                ),
            )
        },
    ),
    DemoAssignment(
        score="galley-song",
        bars="1-12",
        title="Galley Song, strummed",
        students=("Paavo Lindskar",),
        drilled={"Paavo Lindskar": DRILLED},
        tempo=84,
        stage="steady",
        step="chords",
        due_days=5,
        instructions="Change on the first beat, even if a finger is late. Do not stop between chords.",
        takes={
            "Paavo Lindskar": (
                DemoTake(
                    seed=93,
                    faults=[{"kind": "chord", "note": 25, "chord": "F"}, {"kind": "chord", "note": 26, "chord": "F"}],
                    mend=("flow",),
                    work_on="The change to G",
                ),
            )
        },
    ),
    DemoAssignment(
        score="relief-boat",
        bars="1-8",
        title="Relief Boat, clapped",
        students=("Mirre Falkesund",),
        tempo=96,
        step="clap",
        due_days=1,
        instructions="Clap every note once, rests are silent. Count aloud.",
        takes={"Mirre Falkesund": (DemoTake(seed=95, faults=[{"kind": "extra", "note": 9, "semitones": 0}], submitted=False),)},
    ),
    DemoAssignment(
        score="skerry-scale",
        bars="1-7",
        title="Skerry Scale, check-off",
        fast_tempo=100,
        series="Check-offs of the autumn",
        before_steps=("clap", "name"),
        students=("Ylva Tarnholm", "Ossian Brannagh", "Nell Quarrie"),
        tempo=80,
        due_days=8,
        takes={
            "Ylva Tarnholm": (DemoTake(seed=81, work_on="The turn at the top", answer=("passed", "Even from bottom to top. Passed.")),),
            "Nell Quarrie": (
                DemoTake(
                    seed=82,
                    faults=[
                        {"kind": "wrong", "bar": "2", "beat": 2.0, "semitones": -1},
                        {"kind": "wrong", "bar": "3", "beat": 1.0, "semitones": -1},
                    ],
                    mend=(),
                    work_on="Nothing, it was fine",
                ),
            ),
        },
    ),
    DemoAssignment(
        score="harbour-lights",
        bars="3-10",
        title="Harbour Lights, with the piano",
        students=("Mirre Falkesund",),
        tempo=84,
        stage="steady",
        due_days=6,
        instructions="Two bars of introduction: count them, breathe in the second, and come in with the light.",
        accompaniment=(2, 2),
        minutes=10,
        place=1,
    ),
    DemoAssignment(
        score="slack-water",
        bars="1-8",
        title="Evening of lights: Slack Water",
        students=("Inge Vadholm",),
        tempo=66,
        stage="final",
        due_days=9,
        rehearsal_days=2,
    ),
    DemoAssignment(
        score="puffin-steps",
        bars="1-8",
        title="Puffin Steps",
        students=("Wren Askeland",),
        tempo=60,
        stage="first_reading",
        due_days=5,
        instructions="Put your thumb on the red key. Hear the song first, then play it with the puffin. Stop whenever you like.",
        played=(DemoReference(title="As I play it", seed=9, tempo_share=1.0),),
        minutes=5,
    ),
)
