"""Notation in: what is written, what is expected to sound, and its engraving."""
