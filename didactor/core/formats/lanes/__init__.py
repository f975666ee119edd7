"""The engraved passage with what was heard: marks on the notes, and thin lanes under every system.

In every lane time is horizontal, at the notes' own places, and what is measured is vertical or a displacement. What is right
stays plain; what matters is marked by shape first, by the accent second (classes only; the style sheet colours them):

- placement: a fine stem at the written place, a dot left of it when early, right when late;
- pitch: a dot above or below a line by cents; a wrong note is a ghost head on the staff, tied to the written one;
- hands: placement apart for each staff of two;
- loudness: a ribbon as thick as the playing is loud, on a ground for each dynamic mark;
- tempo: the played curve within its band; a hesitation is a break with its seconds, a restart a thin arc back;
- missed: a circle round the written head; not judged: the circle dotted; extra: a small slanted head between its neighbours.
"""

from didactor.core.formats.lanes.parts import View
from didactor.core.formats.lanes.score import plain_score, score_with_lanes

__all__ = ["View", "plain_score", "score_with_lanes"]
