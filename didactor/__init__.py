"""Didactor: assign passages, hear the takes against the score, answer."""
