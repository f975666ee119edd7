"""Practising in small steps: a crossing's stones and their counts, what an attempt was, what kind of fault it is and what mends it."""
