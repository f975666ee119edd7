"""Whatever notation a file holds, as MusicXML: told apart by its content, not by its name."""

from __future__ import annotations

import re

from didactor.core.errors import Problem, ScoreError
from didactor.core.score.abc import abc_to_musicxml, tunes_in
from didactor.core.score.chordpro import chordpro_to_musicxml
from didactor.core.score.draft import without_control_signs
from didactor.core.score.midi import midi_to_musicxml
from didactor.core.score.musicxml import ZIP_MAGIC

FORMATS = {".musicxml": "MusicXML", ".xml": "MusicXML", ".mxl": "MusicXML", ".mid": "MIDI", ".midi": "MIDI", ".abc": "ABC"}
FORMATS |= {".cho": "ChordPro", ".chordpro": "ChordPro", ".crd": "ChordPro", ".pro": "ChordPro", ".txt": "ABC or ChordPro"}


def to_musicxml(data: bytes) -> list[tuple[bytes, list[Problem]]]:
    """The pieces in a file (an ABC file may hold many), each as MusicXML with what was not understood.

    Raises:
        ScoreError: nothing that is known here, or damaged.
    """
    head = data[:4096].lstrip(b"\xef\xbb\xbf \t\r\n")
    if data.startswith(ZIP_MAGIC) or head.startswith(b"<") or data[:2] in (b"\xff\xfe", b"\xfe\xff") or not data.strip():
        return [(data, [])]
    if data.startswith(b"MThd") or (data.startswith(b"RIFF") and data[8:12] == b"RMID"):
        return [midi_to_musicxml(data[data.index(b"MThd") :])]
    if b"\x00" in data[:4096]:
        raise ScoreError("score.not_notation", "This is no notation that can be read here. Use MusicXML, MIDI, ABC or ChordPro.")
    text = _text(data)
    if re.search(r"(?m)^X:\s*\d", text) or (re.search(r"(?m)^K:", text) and not re.search(r"\[[A-G][^\]:]*\]\w", text)):
        return [abc_to_musicxml(tune) for tune in tunes_in(text)]
    if re.search(r"\[[A-G][#b]?[^\]]{0,8}\]|\{\s*(t|title|sog|start_of_grid)\b", text):
        return [chordpro_to_musicxml(text)]
    raise ScoreError("score.not_notation", "This is no notation that can be read here. Use MusicXML, MIDI, ABC or ChordPro.")


def _text(data: bytes) -> str:
    """The text of a file, without signs that XML cannot hold."""
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    return without_control_signs(text)
