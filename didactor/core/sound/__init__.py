"""Recordings in (decoding, quality) and the simulated player that makes recordings with known truth."""
