"""ABC notation in (standard 2.1): tunes to MusicXML, with a list of what was not understood."""

from __future__ import annotations

import re

from didactor.core.score.read.abc.tune import abc_to_musicxml, tunes_in
from didactor.core.score.read.formats import Format, Sample, register

__all__ = ["abc_to_musicxml", "tunes_in"]


def _recognises(sample: Sample) -> bool:
    text = sample.text
    return bool(re.search(r"(?m)^X:\s*\d", text) or (re.search(r"(?m)^K:", text) and not re.search(r"\[[A-G][^\]:]*\]\w", text)))


register(
    Format(
        title="ABC",
        suffixes=(".abc", ".txt"),
        place=30,
        recognises=_recognises,
        read=lambda sample: [abc_to_musicxml(tune) for tune in tunes_in(sample.text)],
    )
)
