"""What stands behind a judgement, to look at and to hear, and what was heard as files for other programs."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from didactor.core.formats.annotated_score import annotate_musicxml
from didactor.core.formats.evidence import Place, as_written, evidence_in_words, place_of
from didactor.core.formats.evidence_drawing import draw_evidence
from didactor.core.formats.performance_midi import performance_to_midi
from didactor.core.formats.result import NoteResult, Result
from didactor.core.hearing.close_up import close_up
from didactor.core.sound.playback import read_stretch
from didactor.core.sound.player.take import wav_bytes
from didactor.core.sound.recording import RATE_HZ
from didactor.library.models import PieceRevision
from didactor.takes.models import Take
from didactor.takes.permissions import Sight


@dataclass(frozen=True, kw_only=True)
class NoteEvidence:
    """What a judgement of one note rests on."""

    take: Take
    index: int
    note: NoteResult
    place: Place
    result: Result
    figures: bool

    @property
    def facts(self) -> list[tuple[str, str]]:
        return evidence_in_words(self.result, self.index, self.place, figures=self.figures)

    @property
    def drawing(self) -> str:
        view = close_up(self._samples(), self.place.start_s, self.place.low_midi, self.place.high_midi)
        return draw_evidence(view, self.place)

    def _samples(self) -> Any:
        with self.take.playback.open("rb") as source:
            return read_stretch(source, self.place.start_s, self.place.end_s, self.take.playback_delay_s)

    def played_wav(self) -> bytes:
        return wav_bytes(self._samples(), RATE_HZ)

    def written_wav(self) -> bytes:
        return as_written(self.result, self.place)


def note_evidence(take: Take, index: int, sight: Sight) -> NoteEvidence | None:
    """The evidence behind one note of a take; None where it has no place in the recording, or is not shown."""
    result = sight.result
    if result is None or not result.notes or index >= len(result.notes) or not take.playback:
        return None
    place = place_of(result, index)
    if place is None:
        return None
    return NoteEvidence(take=take, index=index, note=result.notes[index], place=place, result=result, figures=sight.figures)


@dataclass(frozen=True, kw_only=True)
class HeardFile:
    body: bytes
    content_type: str
    suffix: str


def heard_as(take: Take, kind: str, sight: Sight) -> HeardFile | None:
    """What was heard as a file: ``figures`` (JSON), ``midi`` or ``score`` (MusicXML); None for what this sight does not reach.

    Raises:
        CoreError: there is nothing to write.
    """
    result = sight.result
    if result is None:
        return None
    if kind == "figures" and sight.figures:
        return HeardFile(body=json.dumps(result.to_json(), indent=1).encode(), content_type="application/json", suffix=".json")
    if kind == "midi":
        return HeardFile(body=performance_to_midi(result), content_type="audio/midi", suffix=".mid")
    if kind == "score":
        prepared = bytes(PieceRevision.objects.get(pk=take.basis["revision_id"]).prepared)
        body = annotate_musicxml(prepared, result)
        return HeardFile(body=body, content_type="application/vnd.recordare.musicxml+xml", suffix=".musicxml")
    return None
