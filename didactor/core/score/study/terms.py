"""Terms of tempo and expression, and the signs at the notes, explained in a few plain words for the study sheet."""

from __future__ import annotations

import re

from didactor.core.score.model import Bar, Note, Part

#: Terms as they are printed, without abbreviating points; those of several words first.
TERMS = {
    "a tempo": "back to the tempo before",
    "tempo primo": "the first tempo again",
    "ad libitum": "freely, as you like",
    "con brio": "with vigour",
    "con fuoco": "with fire",
    "con moto": "moving along",
    "con sordino": "with the mute",
    "senza sordino": "without the mute",
    "da capo": "from the beginning again",
    "dal segno": "from the sign again",
    "l'istesso tempo": "the same beat as before",
    "ma non troppo": "but not too much",
    "mezza voce": "with half the voice",
    "sotto voce": "under the breath",
    "poco a poco": "little by little",
    "più mosso": "faster",
    "piu mosso": "faster",
    "meno mosso": "slower",
    "sempre": "always",
    "subito": "suddenly",
    "grave": "very slow, heavy",
    "largo": "very slow and broad",
    "larghetto": "rather slow and broad",
    "lento": "slow",
    "adagio": "slow, at ease",
    "andante": "walking",
    "andantino": "walking lightly",
    "moderato": "at a moderate speed",
    "allegretto": "rather lively",
    "allegro": "lively, quick",
    "vivace": "very lively",
    "presto": "very fast",
    "prestissimo": "as fast as possible",
    "accelerando": "getting faster",
    "stringendo": "pressing on",
    "rallentando": "slowing down",
    "ritardando": "slowing down",
    "ritenuto": "held back at once",
    "allargando": "broader and slower",
    "rubato": "giving and taking time",
    "fermata": "hold longer",
    "crescendo": "getting louder",
    "decrescendo": "getting softer",
    "diminuendo": "getting softer",
    "morendo": "dying away",
    "smorzando": "dying away",
    "piano": "soft",
    "forte": "loud",
    "sforzando": "with a sudden accent",
    "legato": "joined smoothly",
    "staccato": "short, apart",
    "marcato": "each note marked",
    "tenuto": "held its full length",
    "portato": "gently apart",
    "leggiero": "lightly",
    "leggero": "lightly",
    "pesante": "heavily",
    "cantabile": "singing",
    "dolce": "sweetly, softly",
    "espressivo": "with expression",
    "grazioso": "gracefully",
    "maestoso": "stately",
    "giocoso": "merrily",
    "scherzando": "playfully",
    "tranquillo": "calmly",
    "agitato": "restlessly",
    "animato": "with life",
    "appassionato": "with passion",
    "energico": "with energy",
    "mesto": "sadly",
    "semplice": "simply",
    "sostenuto": "sustained",
    "misterioso": "mysteriously",
    "risoluto": "firmly",
    "arco": "with the bow",
    "pizzicato": "plucked with the finger",
    "tremolo": "repeated very quickly",
    "glissando": "sliding",
    "simile": "go on in the same way",
    "tacet": "silent",
    "tutti": "all together",
    "solo": "one alone",
    "divisi": "shared among the players",
    "unisono": "all the same",
    "swing": "first of two eighths longer than the second",
    "langsam": "slow",
    "mäßig": "at a moderate speed",
    "bewegt": "moving",
    "lebhaft": "lively",
    "schnell": "fast",
    "lent": "slow",
    "modéré": "at a moderate speed",
    "vif": "lively",
    "molto": "very",
    "poco": "a little",
    "assai": "very",
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
    "staccato": ("a dot", "short, apart"),
    "staccatissimo": ("a wedge", "very short"),
    "tenuto": ("a line", "held its full length"),
    "accent": ("an accent", "begun more strongly"),
    "strong-accent": ("a strong accent", "begun much more strongly"),
    "detached-legato": ("a line with a dot", "gently apart"),
    "breath-mark": ("a breath mark", "breathe, or lift"),
    "caesura": ("a caesura", "stop for a moment"),
    "fermata": ("a fermata", "hold longer"),
    "trill-mark": ("a trill", "alternate quickly with the note above"),
    "mordent": ("a mordent", "the note, the one below, the note"),
    "inverted-mordent": ("a short trill", "the note, the one above, the note"),
    "turn": ("a turn", "the note above, the note, the one below, the note"),
    "up-bow": ("an up-bow", "push the bow"),
    "down-bow": ("a down-bow", "draw the bow"),
    "open-string": ("a small circle", "open string, or a harmonic"),
    "harmonic": ("a harmonic", "touch the string lightly"),
    "snap-pizzicato": ("a snap", "pluck so that the string hits the board"),
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
