"""ABC notation in (standard 2.1): tunes to MusicXML, with a list of what was not understood."""

from didactor.core.score.abc.tune import abc_to_musicxml, tunes_in

__all__ = ["abc_to_musicxml", "tunes_in"]
