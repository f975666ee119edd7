"""Tone, as far as a recording carries it: measured note by note, compared with another take of the same passage, said in words."""
