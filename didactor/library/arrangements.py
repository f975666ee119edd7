"""A passage as each student reads it: in the key, clef and octave of their instrument."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.db import transaction

from didactor.core.instruments import BY_SLUG, Instrument
from didactor.core.score.expected import expect
from didactor.core.score.generate import make
from didactor.core.score.read.musicxml import prepare, read
from didactor.core.score.spelling import interval_for
from didactor.core.score.summary import summary
from didactor.core.score.write.arrange import arrange, fits
from didactor.core.units import midi_to_name
from didactor.core.words import _, counted, worded
from didactor.library.models import Passage, PieceRevision
from didactor.library.notation import expectation_of, read_part

ONE_OCTAVE = "one_octave"
LEAVE_OUT = "leave_out"
AS_IT_SOUNDS = {0: _("as it sounds"), 1: _("an octave higher"), -1: _("an octave lower")}


@dataclass(frozen=True, kw_only=True)
class Offer:
    """One way to give a passage to a player. ``value`` is what a form sends: octaves as a number, or a word."""

    value: str
    words: str
    outside: int
    low: int
    high: int

    @property
    def fits(self) -> bool:
        return self.outside == 0


@dataclass(frozen=True, kw_only=True)
class Part:
    """A passage for one instrument and level: how it would be written, and the ways to give it, the best first."""

    instrument: Instrument
    key_in_words: str
    offers: tuple[Offer, ...]

    def offer(self, value: str) -> Offer | None:
        return next((o for o in self.offers if o.value == value), None)

    def span_in_words(self, offer: Offer) -> str:
        """The written range, as “C4–A5”."""
        low, high = (midi_to_name(m - self.instrument.transposition) for m in (offer.low, offer.high))
        return f"{low}–{high}".replace("b", "♭").replace("#", "♯")


def part_for(*, passage: Passage, instrument: str, level: str) -> Part:
    """How a passage could be given to a player of an instrument at a level."""
    player = BY_SLUG[instrument]
    expectation = expectation_of(revision_id=passage.revision_id, part=passage.part, bars=passage.bars, order=passage.order)
    source = read_part(passage.revision_id, passage.part)
    fifths = source.bars[0].fifths
    interval = interval_for(source.transposition - player.transposition, fifths)
    pitches = [n.sounding_midi for n in expectation.notes if not n.unpitched]
    if not player.pitched or not pitches:
        words = worded("its rhythm, as strokes") if pitches else worded("as it is")
        return Part(instrument=player, key_in_words="", offers=(Offer(value="0", words=words, outside=0, low=60, high=60),))
    within = player.range_at(level)
    offers = [_offer(str(f.octaves), _octaves_in_words(f.octaves), f.outside, f.low, f.high) for f in fits(pitches, within)]
    if not offers:
        offers = [_offer("0", AS_IT_SOUNDS[0], len(pitches), min(pitches), max(pitches))]
    offers = [o for o in offers if o.outside <= offers[0].outside or o.value == "0"][:4]
    shorter = _one_octave(passage)
    if shorter is not None and not offers[0].fits:
        best = fits([n.sounding_midi for n in expect(shorter).notes], within)
        if best:
            offers.insert(
                1, _offer(f"{ONE_OCTAVE}:{best[0].octaves}", worded("one octave only"), best[0].outside, best[0].low, best[0].high)
            )
            offers.sort(key=lambda o: o.outside)
    return Part(instrument=player, key_in_words=signature_in_words(fifths + interval.fifths), offers=tuple(offers))


def _offer(value: str, words: str, outside: int, low: int, high: int) -> Offer:
    told = (
        words if not outside else counted("{words}, {count} note out of range", "{words}, {count} notes out of range", outside, words=words)
    )
    return Offer(value=value, words=told, outside=outside, low=low, high=high)


def _octaves_in_words(octaves: int) -> str:
    return AS_IT_SOUNDS.get(octaves) or (
        worded("{octaves} octaves higher", octaves=abs(octaves)) if octaves > 0 else worded("{octaves} octaves lower", octaves=abs(octaves))
    )


def signature_in_words(fifths: int) -> str:
    """A key signature as “3 flats”."""
    if fifths == 0:
        return worded("no signs")
    if fifths > 0:
        return counted("{count} sharp", "{count} sharps", fifths)
    return counted("{count} flat", "{count} flats", -fifths)


def _one_octave(passage: Passage) -> Any:
    """The same exercise over one octave, where the passage is a whole one of several."""
    made = passage.revision.piece.made_from
    if not made or made["choices"].get("octaves", 1) < 2:
        return None
    return read(prepare(_made_again(made)[1])).parts[0]


def _made_again(made: Any) -> tuple[Any, bytes]:
    return make(made["kind"], {**made["choices"], "octaves": 1})


@transaction.atomic
def written_for(*, passage: Passage, instrument: str, offer: str = "0") -> Passage:
    """The passage as a player of an instrument reads it; the same row where nothing would be written otherwise."""
    player = BY_SLUG[instrument]
    shorter, _, octaves_text = offer.rpartition(":")
    octaves = int(octaves_text)
    if not shorter and _is_written_so(passage, player, octaves):
        return passage
    wanted = f"{passage.part}/{player.slug}/{offer}"
    revision = passage.revision.arrangements.filter(arranged_for=wanted).first()
    if revision is None:
        revision = _arranged(passage, player, octaves, wanted, shorter=bool(shorter))
    bars = passage.bars if not shorter else f"{revision.parts[0]['bars'][0]['number']}-{revision.parts[0]['bars'][-1]['number']}"
    made, _ = Passage.objects.get_or_create(
        arranged_from=passage,
        revision=revision,
        defaults={
            "part": 1,
            "bars": bars,
            "order": "" if shorter else passage.order,
            "title": passage.title,
            "note_count": passage.note_count,
            "created_by": passage.created_by,
        },
    )
    return made


def _is_written_so(passage: Passage, player: Instrument, octaves: int) -> bool:
    source = read_part(passage.revision_id, passage.part)
    if all(n.unpitched for n in source.notes):
        return True
    if not player.pitched:
        return False
    same_clef = source.clef == player.clef or source.clef in player.other_clefs
    return octaves == 0 and source.transposition == player.transposition and same_clef and (source.staves == 1 or player.staves == 2)


def _arranged(passage: Passage, player: Instrument, octaves: int, wanted: str, *, shorter: bool) -> PieceRevision:
    source, part = passage.revision, passage.part
    prepared = bytes(source.prepared)
    if shorter:
        prepared, part = prepare(_made_again(source.piece.made_from)[1]), 1
    written = arrange(prepared, part, player, octaves)
    entry = summary(read(written))["parts"][0]
    return PieceRevision.objects.create(
        piece=source.piece,
        number=source.number,
        prepared=written,
        reading={**source.reading, "parts": [entry]},
        arranged_from=source,
        arranged_for=wanted,
    )
