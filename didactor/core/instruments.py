"""Instruments: how each is written, what a player of it can reach at which level, what the ear may assume, and its sound.

``low`` and ``high`` are the sounding MIDI numbers of the whole instrument; ``reach`` the written range a teacher would give to the
end of the first year (beginner), of the second or third (elementary) and later (intermediate); an advanced player has it all.
``transposition`` is sounding minus written, in semitones. ``bends`` tells whether a player can sound between the keys (cents are
judged only then); ``decays`` marks plucked and struck strings, whose notes fade by themselves. Ranges follow common method books
and orchestration manuals (Adler 2016).
"""

from __future__ import annotations

from dataclasses import dataclass

from didactor.core.units import name_to_midi
from didactor.core.words import _

LEVELS = ("beginner", "elementary", "intermediate", "advanced")


@dataclass(frozen=True, slots=True, kw_only=True)
class Instrument:
    """``fingering`` names the kind of chart that is drawn for it (``core/score/fingering``), with its tuning where it has strings."""

    slug: str
    title: str
    family: str
    program: int
    low: int
    high: int
    reach: tuple[tuple[int, int], ...] = ()
    bends: bool = True
    decays: bool = False
    transposition: int = 0
    clef: str = "treble"
    other_clefs: tuple[str, ...] = ()
    pitched: bool = True
    many_voices: bool = False
    staves: int = 1
    fingering: str = ""

    def range_at(self, level: str) -> tuple[int, int]:
        """Lowest and highest sounding MIDI number for a level of ``LEVELS``; the whole range for one not known."""
        at = LEVELS.index(level) if level in LEVELS else len(LEVELS)
        return self.reach[at] if at < len(self.reach) else (self.low, self.high)


def _of(slug: str, title: str, family: str, program: int, low: int, high: int, reach: str = "", **more: object) -> Instrument:
    """``reach`` in written names: “C4-C5 A3-G5 G3-B5”."""
    shift = int(more.get("transposition", 0))  # type: ignore[call-overload]
    ranges = [span.split("-") for span in reach.split()]
    sounding = tuple((name_to_midi(a) + shift, name_to_midi(b) + shift) for a, b in ranges)
    return Instrument(
        slug=slug,
        title=title,
        family=family,
        program=program,
        low=low,
        high=high,
        reach=sounding,
        **more,  # type: ignore[arg-type]
    )


def _strings(slug: str, title: str, program: int, low: int, high: int, reach: str, tuning: str, **more: object) -> Instrument:
    return _of(slug, title, "strings", program, low, high, reach, fingering=f"strings {tuning}", **more)


def _fretted(slug: str, title: str, low: int, high: int, reach: str, tuning: str, program: int = 24, **more: object) -> Instrument:
    common: dict[str, object] = {"bends": False, "decays": True, "many_voices": True, "fingering": f"frets {tuning}"}
    return _of(slug, title, "fretted", program, low, high, reach, **{**common, **more})


def _keys(slug: str, title: str, program: int, low: int, high: int, reach: str, **more: object) -> Instrument:
    common: dict[str, object] = {"bends": False, "decays": True, "many_voices": True, "fingering": "keyboard"}
    return _of(slug, title, "keys", program, low, high, reach, **{**common, **more})


def _unpitched(slug: str, title: str) -> Instrument:
    return _of(slug, title, "percussion", 0, 21, 108, bends=False, decays=True, pitched=False, clef="percussion")


INSTRUMENTS: tuple[Instrument, ...] = (
    _of("piccolo", _("Piccolo"), "woodwind", 72, 74, 108, "D4-D5 D4-G5 D4-C6", transposition=12, fingering="keys flute"),
    _of("flute", _("Flute"), "woodwind", 73, 59, 98, "Eb4-Bb5 D4-D6 C4-G6", fingering="keys flute"),
    _of("recorder", _("Recorder"), "woodwind", 74, 60, 98, "D4-D5 C4-G5 C4-A5", transposition=12, fingering="recorder C"),
    _of("alto-recorder", _("Alto recorder"), "woodwind", 74, 65, 94, "G4-G5 F4-A5 F4-D6", fingering="recorder F"),
    _of("tenor-recorder", _("Tenor recorder"), "woodwind", 74, 60, 88, "D4-D5 C4-G5 C4-A5", fingering="recorder C"),
    _of("oboe", _("Oboe"), "woodwind", 68, 58, 92, "D4-Eb5 D4-G5 C4-C6"),
    _of("english-horn", _("English horn"), "woodwind", 69, 52, 84, "D4-D5 D4-G5 C4-C6", transposition=-7),
    _of("clarinet", _("Clarinet in B flat"), "woodwind", 71, 50, 94, "E3-C5 E3-G5 E3-C6", transposition=-2, fingering="keys clarinet"),
    _of("clarinet-in-a", _("Clarinet in A"), "woodwind", 71, 49, 93, "E3-C5 E3-G5 E3-C6", transposition=-3, fingering="keys clarinet"),
    _of(
        "clarinet-in-e-flat",
        _("Clarinet in E flat"),
        "woodwind",
        71,
        55,
        99,
        "E3-C5 E3-G5 E3-C6",
        transposition=3,
        fingering="keys clarinet",
    ),
    _of("bass-clarinet", _("Bass clarinet"), "woodwind", 71, 36, 82, "E3-C5 E3-G5 E3-C6", transposition=-14, fingering="keys clarinet"),
    _of("bassoon", _("Bassoon"), "woodwind", 70, 34, 76, "F2-G3 F2-D4 Bb1-G4", clef="bass", other_clefs=("tenor",)),
    _of("soprano-saxophone", _("Soprano saxophone"), "woodwind", 64, 56, 88, "D4-G5 C4-C6 Bb3-D6", transposition=-2, fingering="keys sax"),
    _of("alto-saxophone", _("Alto saxophone"), "woodwind", 65, 49, 81, "D4-G5 C4-C6 Bb3-D6", transposition=-9, fingering="keys sax"),
    _of("tenor-saxophone", _("Tenor saxophone"), "woodwind", 66, 44, 76, "D4-G5 C4-C6 Bb3-D6", transposition=-14, fingering="keys sax"),
    _of(
        "baritone-saxophone", _("Baritone saxophone"), "woodwind", 67, 36, 69, "D4-G5 C4-C6 Bb3-D6", transposition=-21, fingering="keys sax"
    ),
    _of("horn", _("Horn in F"), "brass", 60, 34, 77, "A3-C5 G3-E5 F3-G5", transposition=-7, other_clefs=("bass",), fingering="valves C2"),
    _of("trumpet", _("Trumpet in B flat"), "brass", 56, 52, 84, "Bb3-C5 A3-F5 G3-A5", transposition=-2, fingering="valves C3"),
    _of("trumpet-in-c", _("Trumpet in C"), "brass", 56, 54, 86, "Bb3-C5 A3-F5 G3-A5", fingering="valves C3"),
    _of("cornet", _("Cornet in B flat"), "brass", 56, 52, 84, "Bb3-C5 A3-F5 G3-A5", transposition=-2, fingering="valves C3"),
    _of("flugelhorn", _("Flugelhorn"), "brass", 56, 52, 82, "Bb3-C5 A3-F5 G3-A5", transposition=-2, fingering="valves C3"),
    _of("tenor-horn", _("Tenor horn in E flat"), "brass", 60, 45, 75, "Bb3-C5 A3-F5 G3-A5", transposition=-9, fingering="valves C3"),
    _of("euphonium", _("Euphonium, bass clef"), "brass", 58, 40, 74, "Ab2-Bb3 G2-Eb4 F2-F4", clef="bass", fingering="valves Bb1"),
    _of("baritone-treble", _("Baritone, treble clef"), "brass", 58, 40, 72, "Bb3-C5 A3-F5 G3-A5", transposition=-14, fingering="valves C3"),
    _of("trombone", _("Trombone"), "brass", 57, 34, 74, "Ab2-Bb3 G2-Eb4 E2-F4", clef="bass", other_clefs=("tenor",), fingering="slide Bb1"),
    _of("bass-trombone", _("Bass trombone"), "brass", 57, 34, 70, "Ab2-Bb3 F2-D4 Bb1-F4", clef="bass", fingering="slide Bb1"),
    _of("tuba", _("Tuba"), "brass", 58, 24, 65, "Ab1-Bb2 F1-Eb3 E1-F3", clef="bass", fingering="valves Bb0"),
    _strings("violin", _("Violin"), 40, 55, 100, "A3-B5 G3-B5 G3-D6", "G3 D4 A4 E5"),
    _strings("viola", _("Viola"), 41, 48, 91, "D3-E5 C3-E5 C3-G5", "C3 G3 D4 A4", clef="alto", other_clefs=("treble",)),
    _strings("cello", _("Cello"), 42, 36, 84, "G2-D4 C2-D4 C2-G4", "C2 G2 D3 A3", clef="bass", other_clefs=("tenor", "treble")),
    _strings("double-bass", _("Double bass"), 43, 28, 67, "A2-B3 E2-D4 E2-G4", "E2 A2 D3 G3", clef="bass", transposition=-12),
    _fretted("guitar", _("Guitar"), 40, 88, "E3-G4 E2-G4 E2-E5", "E2 A2 D3 G3 B3 E4", clef="treble8"),
    _fretted("bass-guitar", _("Bass guitar"), 28, 67, "E2-D3 E2-G3 E2-C4", "E2 A2 D3 G3", 33, clef="bass", transposition=-12),
    _fretted("ukulele", _("Ukulele"), 60, 93, "C4-C5 C4-E5 C4-A5", "G4 C4 E4 A4"),
    _fretted("mandolin", _("Mandolin"), 55, 93, "D4-D5 G3-B5 G3-D6", "G3 D4 A4 E5", 25, bends=False),
    _fretted("banjo", _("Banjo"), 48, 86, "C3-D4 C3-G4 C3-C5", "G4 D3 G3 B3 D4", 105, clef="treble8"),
    _of("harp", _("Harp"), "strings", 46, 24, 103, "C3-C5 C2-C6 C2-C7", bends=False, decays=True, many_voices=True, staves=2),
    _keys("piano", _("Piano"), 0, 21, 108, "C3-C5 F2-C6 C2-C7", staves=2),
    _keys("organ", _("Organ"), 19, 36, 96, "C3-C5 F2-C6 C2-C7", staves=2, decays=False),
    _keys("accordion", _("Accordion"), 21, 41, 93, "C4-C5 G3-C6 F3-F6", decays=False),
    _keys("xylophone", _("Xylophone"), 13, 65, 108, "C4-C5 G3-C6 F3-C7", transposition=12, fingering="bars"),
    _keys("glockenspiel", _("Glockenspiel"), 9, 79, 108, "C4-C5 G3-C6 G3-C6", transposition=24, fingering="bars"),
    _keys("marimba", _("Marimba"), 12, 45, 96, "C4-C5 C3-C6 A2-C7", fingering="bars"),
    _keys("vibraphone", _("Vibraphone"), 11, 53, 89, "C4-C5 F3-C6 F3-F6", fingering="bars"),
    _of("voice", _("Voice"), "voice", 52, 40, 84, "C4-C5 A3-D5 G3-F5"),
    _of("low-voice", _("Voice, tenor"), "voice", 52, 43, 72, "C3-C4 C3-E4 B2-G4", clef="treble8"),
    _of("bass-voice", _("Voice, bass"), "voice", 52, 38, 66, "F2-A3 F2-C4 E2-E4", clef="bass"),
    _unpitched("claps", _("Claps and taps")),
    _unpitched("percussion", _("Percussion")),
)

BY_SLUG = {instrument.slug: instrument for instrument in INSTRUMENTS}
_GENERIC = Instrument(slug="other", title=_("Other instrument"), family="other", program=73, low=21, high=108, bends=True)
_WORDS = {
    "sax": "alto-saxophone",
    "contrabass": "double-bass",
    "violoncello": "cello",
    "keyboard": "piano",
    "soprano": "voice",
    "alto": "voice",
    "tenor": "low-voice",
    "bass": "bass-voice",
    "cor anglais": "english-horn",
    "baritone": "baritone-treble",
}


def find_instrument(name: str) -> Instrument:
    """The instrument that a score's part name or a person's choice means; a generic one when it is not known."""
    plain = name.strip().lower()
    if plain in BY_SLUG:
        return BY_SLUG[plain]
    known = {i.title.lower(): i for i in INSTRUMENTS} | {i.slug.replace("-", " "): i for i in INSTRUMENTS}
    known |= {word: BY_SLUG[slug] for word, slug in _WORDS.items()}
    # The longest name that occurs wins: "double bass" before "bass", "violoncello" before "violin".
    for word in sorted(known, key=len, reverse=True):
        if word in plain:
            return known[word]
    return _GENERIC
