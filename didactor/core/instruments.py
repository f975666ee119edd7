"""Instruments: what the ear may assume of each, and the synthesiser's sound for it.

``low`` and ``high`` are sounding MIDI numbers; ``bends`` tells whether a player can sound between the keys (cents are judged
only then); ``decays`` marks plucked and struck strings, whose notes fade by themselves.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Instrument:
    slug: str
    title: str
    program: int
    low: int
    high: int
    bends: bool
    decays: bool = False
    transposition: int = 0
    clef: str = "treble"
    pitched: bool = True
    many_voices: bool = False


INSTRUMENTS: tuple[Instrument, ...] = (
    Instrument(slug="piccolo", title="Piccolo", program=72, low=74, high=108, bends=True, transposition=12),
    Instrument(slug="flute", title="Flute", program=73, low=59, high=98, bends=True),
    Instrument(slug="recorder", title="Recorder", program=74, low=60, high=98, bends=True),
    Instrument(slug="oboe", title="Oboe", program=68, low=58, high=92, bends=True),
    Instrument(slug="clarinet", title="Clarinet in B flat", program=71, low=50, high=94, bends=True, transposition=-2),
    Instrument(slug="bassoon", title="Bassoon", program=70, low=34, high=76, bends=True, clef="bass"),
    Instrument(slug="alto-saxophone", title="Alto saxophone", program=65, low=49, high=81, bends=True, transposition=-9),
    Instrument(slug="tenor-saxophone", title="Tenor saxophone", program=66, low=44, high=76, bends=True, transposition=-14),
    Instrument(slug="horn", title="Horn in F", program=60, low=34, high=77, bends=True, transposition=-7),
    Instrument(slug="trumpet", title="Trumpet in B flat", program=56, low=52, high=84, bends=True, transposition=-2),
    Instrument(slug="trombone", title="Trombone", program=57, low=34, high=74, bends=True, clef="bass"),
    Instrument(slug="tuba", title="Tuba", program=58, low=24, high=65, bends=True, clef="bass"),
    Instrument(slug="violin", title="Violin", program=40, low=55, high=100, bends=True),
    Instrument(slug="viola", title="Viola", program=41, low=48, high=91, bends=True, clef="alto"),
    Instrument(slug="cello", title="Cello", program=42, low=36, high=84, bends=True, clef="bass"),
    Instrument(slug="double-bass", title="Double bass", program=43, low=28, high=67, bends=True, clef="bass", transposition=-12),
    Instrument(
        slug="guitar",
        title="Guitar",
        program=24,
        low=40,
        high=88,
        bends=False,
        decays=True,
        many_voices=True,
        clef="treble8",
        transposition=-12,
    ),
    Instrument(slug="ukulele", title="Ukulele", program=24, low=60, high=93, bends=False, decays=True, many_voices=True),
    Instrument(slug="piano", title="Piano", program=0, low=21, high=108, bends=False, decays=True, many_voices=True),
    Instrument(slug="voice", title="Voice", program=52, low=40, high=84, bends=True),
    Instrument(slug="claps", title="Claps and taps", program=0, low=21, high=108, bends=False, decays=True, pitched=False),
    Instrument(slug="percussion", title="Percussion", program=0, low=21, high=108, bends=False, decays=True, pitched=False),
)

BY_SLUG = {instrument.slug: instrument for instrument in INSTRUMENTS}
_GENERIC = Instrument(slug="other", title="Other instrument", program=73, low=21, high=108, bends=True)
_WORDS = {
    "sax": "alto-saxophone",
    "contrabass": "double-bass",
    "bass guitar": "double-bass",
    "violoncello": "cello",
    "keyboard": "piano",
    "soprano": "voice",
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
