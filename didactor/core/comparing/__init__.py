"""Results laid beside each other, and beside what a listener says: who heard what, which take was steadier, what was mended."""
