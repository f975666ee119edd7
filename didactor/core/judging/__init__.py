"""Played against expected: note judgements, tempo, pulse, and the findings made of them, by stage."""
