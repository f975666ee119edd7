"""Terms of tempo and expression, and the signs at the notes, explained in a few plain words for the study sheet."""

from __future__ import annotations

import re

from didactor.core.score.model import Bar, Note, Part
from didactor.core.words import _

#: Terms as they are printed, without abbreviating points; those of several words first.
TERMS = {
    "a tempo": _("back to the tempo before"),
    "tempo primo": _("the first tempo again"),
    "ad libitum": _("freely, as you like"),
    "con brio": _("with vigour"),
    "con fuoco": _("with fire"),
    "con moto": _("moving along"),
    "con sordino": _("with the mute"),
    "senza sordino": _("without the mute"),
    "da capo": _("from the beginning again"),
    "dal segno": _("from the sign again"),
    "l'istesso tempo": _("the same beat as before"),
    "ma non troppo": _("but not too much"),
    "mezza voce": _("with half the voice"),
    "sotto voce": _("under the breath"),
    "poco a poco": _("little by little"),
    "più mosso": _("faster"),
    "piu mosso": _("faster"),
    "meno mosso": _("slower"),
    "sempre": _("always"),
    "subito": _("suddenly"),
    "grave": _("very slow, heavy"),
    "largo": _("very slow and broad"),
    "larghetto": _("rather slow and broad"),
    "lento": _("slow"),
    "adagio": _("slow, at ease"),
    "andante": _("walking"),
    "andantino": _("walking lightly"),
    "moderato": _("at a moderate speed"),
    "allegretto": _("rather lively"),
    "allegro": _("lively, quick"),
    "vivace": _("very lively"),
    "presto": _("very fast"),
    "prestissimo": _("as fast as possible"),
    "accelerando": _("getting faster"),
    "stringendo": _("pressing on"),
    "rallentando": _("slowing down"),
    "ritardando": _("slowing down"),
    "ritenuto": _("held back at once"),
    "allargando": _("broader and slower"),
    "rubato": _("giving and taking time"),
    "fermata": _("hold longer"),
    "crescendo": _("getting louder"),
    "decrescendo": _("getting softer"),
    "diminuendo": _("getting softer"),
    "morendo": _("dying away"),
    "smorzando": _("dying away"),
    "piano": _("soft"),
    "forte": _("loud"),
    "sforzando": _("with a sudden accent"),
    "legato": _("joined smoothly"),
    "staccato": _("short, apart"),
    "marcato": _("each note marked"),
    "tenuto": _("held its full length"),
    "portato": _("gently apart"),
    "leggiero": _("lightly"),
    "leggero": _("lightly"),
    "pesante": _("heavily"),
    "cantabile": _("singing"),
    "dolce": _("sweetly, softly"),
    "espressivo": _("with expression"),
    "grazioso": _("gracefully"),
    "maestoso": _("stately"),
    "giocoso": _("merrily"),
    "scherzando": _("playfully"),
    "tranquillo": _("calmly"),
    "agitato": _("restlessly"),
    "animato": _("with life"),
    "appassionato": _("with passion"),
    "energico": _("with energy"),
    "mesto": _("sadly"),
    "semplice": _("simply"),
    "sostenuto": _("sustained"),
    "misterioso": _("mysteriously"),
    "risoluto": _("firmly"),
    "arco": _("with the bow"),
    "pizzicato": _("plucked with the finger"),
    "tremolo": _("repeated very quickly"),
    "glissando": _("sliding"),
    "simile": _("go on in the same way"),
    "tacet": _("silent"),
    "tutti": _("all together"),
    "solo": _("one alone"),
    "divisi": _("shared among the players"),
    "unisono": _("all the same"),
    "swing": _("first of two eighths longer than the second"),
    "langsam": _("slow"),
    "mäßig": _("at a moderate speed"),
    "bewegt": _("moving"),
    "lebhaft": _("lively"),
    "schnell": _("fast"),
    "lent": _("slow"),
    "modéré": _("at a moderate speed"),
    "vif": _("lively"),
    "molto": _("very"),
    "poco": _("a little"),
    "assai": _("very"),
}
_SHORT = {
    "rit": "ritardando",
    "ritard": "ritardando",
    "riten": "ritenuto",
    "rall": "rallentando",
    "accel": "accelerando",
    "string": "stringendo",
    "cresc": "crescendo",
    "decresc": "decrescendo",
    "dim": "diminuendo",
    "espr": "espressivo",
    "cant": "cantabile",
    "legg": "leggiero",
    "leg": "legato",
    "stacc": "staccato",
    "marc": "marcato",
    "ten": "tenuto",
    "sost": "sostenuto",
    "pizz": "pizzicato",
    "div": "divisi",
    "sim": "simile",
    "allarg": "allargando",
    "ad lib": "ad libitum",
    "d.c": "da capo",
    "d.s": "dal segno",
    "tempo i": "tempo primo",
}
#: Signs at the notes, by MusicXML's names.
SIGNS = {
    "staccato": (_("a dot"), _("short, apart")),
    "staccatissimo": (_("a wedge"), _("very short")),
    "tenuto": (_("a line"), _("held its full length")),
    "accent": (_("an accent"), _("begun more strongly")),
    "strong-accent": (_("a strong accent"), _("begun much more strongly")),
    "detached-legato": (_("a line with a dot"), _("gently apart")),
    "breath-mark": (_("a breath mark"), _("breathe, or lift")),
    "caesura": (_("a caesura"), _("stop for a moment")),
    "fermata": (_("a fermata"), _("hold longer")),
    "trill-mark": (_("a trill"), _("alternate quickly with the note above")),
    "mordent": (_("a mordent"), _("the note, the one below, the note")),
    "inverted-mordent": (_("a short trill"), _("the note, the one above, the note")),
    "turn": (_("a turn"), _("the note above, the note, the one below, the note")),
    "up-bow": (_("an up-bow"), _("push the bow")),
    "down-bow": (_("a down-bow"), _("draw the bow")),
    "open-string": (_("a small circle"), _("open string, or a harmonic")),
    "harmonic": (_("a harmonic"), _("touch the string lightly")),
    "snap-pizzicato": (_("a snap"), _("pluck so that the string hits the board")),
}


def terms_in(part: Part, bars: dict[int, Bar]) -> list[tuple[str, str]]:
    """Terms printed over these bars with their meanings, in the order in which they come; each once."""
    found: dict[str, str] = {}
    for words in part.words:
        if words.bar_index in bars:
            for term in _terms(words.text):
                found.setdefault(term, TERMS[term])
    return list(found.items())


def _terms(text: str) -> list[str]:
    plain = f" {re.sub(r'[.,;:!()]+(?= |$)', '', text.lower())} "
    result = []
    for written, term in sorted({**_SHORT, **{t: t for t in TERMS}}.items(), key=lambda pair: -len(pair[0])):
        if f" {written} " in plain:
            plain = plain.replace(f" {written} ", "  ")
            result.append((text.lower().find(written), term))
    return [term for _, term in sorted(result)]


def signs_in(notes: list[Note], bars: dict[int, Bar]) -> list[tuple[str, str]]:
    """Signs at the notes: (where and how often, what they mean)."""
    places: dict[str, list[str]] = {}
    for note in notes:
        for sign in note.articulations:
            if sign in SIGNS:
                numbers = places.setdefault(sign, [])
                if bars[note.bar_index].number not in numbers:
                    numbers.append(bars[note.bar_index].number)
    return [(f"{SIGNS[sign][0]} ({_bars(numbers)})", SIGNS[sign][1]) for sign, numbers in places.items()]


def _bars(numbers: list[str]) -> str:
    shown = ", ".join(numbers[:5]) + (" …" if len(numbers) > 5 else "")
    return f"bar {shown}" if len(numbers) == 1 else f"bars {shown}"
