"""Exercises made from a few choices: scales, arpeggios, rhythm lines, strumming charts, sight-reading, variations.

All in concert pitch, as a ``Line`` of ``core/score/write.py``; arranging for each player's instrument comes after. The same choices
(and the same seed) give the same exercise.
"""

from didactor.core.score.generate.exercise import KINDS, Exercise, make

__all__ = ["KINDS", "Exercise", "make"]
