"""The simulated player: score to performance (human timing, listed faults) to sound, with the exact truth."""
